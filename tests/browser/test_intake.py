"""Intake in the browser: recordings set in time by mouse and by keys."""

import re
import tempfile
from pathlib import Path

import soundfile
from playwright.sync_api import Locator, Page, Route, expect

from metaphon.core.document.mix import Clip
from metaphon.web.intake.models import Arrival
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.snapshots import document_of
from tests.browser.server import WORK_MS, BrowserTest, HeldBack, catch
from tests.sounds import RATE_HZ, noise
from tests.web.base import StripOf


class TimeLine(BrowserTest):
    def setUp(self) -> None:
        super().setUp()
        self.page = self.open()
        self.mix = Mix.objects.get(title="The Lamp at Skerrow")
        self.page.goto(f"{self.address}/mix/{self.mix.pk}/intake/")
        self.settled(self.page)

    def of(self, ref: str) -> list[Clip]:
        return list(StripOf(self.mix, ref).clips)

    def clip(self, ref: str, place: int = 0) -> Locator:
        return self.page.locator(f"#clip-{ref}-{place}")

    def drag(
        self, clip: Locator, from_x: float, from_y: float, by_x: float, by_y: float = 0
    ) -> None:
        """From a place in the clip, as parts of its width (x) and pixels from its top (y)."""
        self.settled(self.page)  # a place that is read while a page is drawn may be an old one
        clip.evaluate("(clip) => clip.scrollIntoView({ block: 'center' })")
        box = self.box(clip)
        x, y = box["x"] + 2 + from_x * (box["width"] - 4), box["y"] + from_y
        self.page.mouse.move(x, y)
        self.page.mouse.down()
        self.page.mouse.move(x + by_x / 2, y + by_y, steps=3)
        self.page.keyboard.down("Shift")  # no edge holds it
        self.page.mouse.move(x + by_x, y + by_y, steps=3)
        with self.page.expect_response(lambda r: r.request.method == "POST"):
            self.page.mouse.up()
        self.page.keyboard.up("Shift")

    def seconds(self, pixels: float) -> float:
        shown = self.page.locator("[data-shows]").inner_text()
        ends = [
            sum(60**n * float(p) for n, p in enumerate(reversed(t.split(":"))))
            for t in shown.split(" to ")
        ]
        wide = self.page.locator(".timeline .ruler").bounding_box()
        assert wide
        return pixels / wide["width"] * (ends[1] - ends[0])

    def press(self, page: Page, key: str) -> None:
        with page.expect_response(lambda r: r.request.method == "POST"):
            page.keyboard.press(key)

    def test_a_clip_is_moved_trimmed_and_faded_by_the_mouse(self) -> None:
        [before] = self.of("gull")
        second = self.seconds(100) / 100  # a pixel
        self.drag(self.clip("gull"), 0.5, 40, 80)
        [moved] = self.of("gull")
        self.assertAlmostEqual(moved.start_s, before.start_s + 80 * second, delta=3 * second)
        self.drag(self.clip("gull"), 0.0, 40, 50)
        [begun] = self.of("gull")
        self.assertAlmostEqual(begun.in_s, 50 * second, delta=3 * second)
        self.assertAlmostEqual(begun.start_s - begun.in_s, moved.start_s, places=5)
        self.drag(self.clip("gull"), 1.0, 40, -60)
        [ended] = self.of("gull")
        whole_s = StripOf(self.mix, "gull").recording.frames / self.mix.sample_rate_hz
        self.assertAlmostEqual(ended.length_s or 0, whole_s - 110 * second, delta=5 * second)
        self.drag(self.clip("gull"), 0.0, 5, 40)
        self.assertAlmostEqual(self.of("gull")[0].fade_in_s, 40 * second, delta=3 * second)
        for _ in range(4):
            with self.page.expect_response(lambda r: "undo" in r.url):
                self.page.click("#undo")
        [back] = self.of("gull")
        self.assertEqual((back.start_s, back.in_s, back.length_s), (before.start_s, 0.0, None))

    def test_a_clip_is_dragged_again_before_the_answer_to_the_first_drag(self) -> None:
        page, gull = self.page, self.clip("gull")
        [before] = self.of("gull")
        gull.evaluate("(clip) => clip.scrollIntoView({ block: 'center' })")
        edit = HeldBack(page, "**/intake/edit", answered=True)

        def pull(part: float, by_x: float, by_y: float) -> None:
            box = self.box(gull)
            x, y = box["x"] + 2 + part * (box["width"] - 4), box["y"] + 40
            page.mouse.move(x, y)
            page.mouse.down()
            page.mouse.move(x + by_x, y + by_y, steps=4)
            page.mouse.move(x + by_x, y, steps=2)
            page.mouse.up()

        pull(0.5, 80, -120)
        edit.came()
        pull(0.0, 50, 0)
        edit.let_go()
        self.wait_for(lambda: self.of("gull")[0].in_s > 0.0)
        [after] = self.of("gull")
        self.assertGreater(after.start_s - after.in_s, before.start_s)
        for _ in range(2):
            with page.expect_response(lambda r: "undo" in r.url):
                page.click("#undo")
        self.assertEqual(self.of("gull")[0].start_s, before.start_s)

    def test_what_is_chosen_while_an_edit_is_on_its_way_has_its_own_numbers(self) -> None:
        edit = HeldBack(self.page, "**/intake/edit", answered=True)
        numbers, sea = self.page.locator("#clip b"), self.clip("sea")
        sea.focus()
        expect(numbers).to_have_text("Sea")
        label = sea.get_attribute("aria-label") or ""
        self.page.keyboard.press("Shift+ArrowRight")
        edit.came()
        self.clip("rain").focus()
        expect(numbers).to_have_text("Rain")
        edit.let_go()
        expect(sea).not_to_have_attribute("aria-label", label)
        expect(numbers).to_have_text("Rain")
        self.press(self.page, "Control+z")

    def test_by_keys_and_by_numbers(self) -> None:
        page, clip = self.page, self.clip("rowing_boat" if self.of("rowing_boat") else "boat")
        ref = clip.get_attribute("data-strip") or ""
        [before] = self.of(ref)
        clip.focus()
        expect(page.locator("#clip")).to_contain_text("Begins")
        self.press(page, "Shift+ArrowRight")
        self.assertAlmostEqual(self.of(ref)[0].start_s, before.start_s + 1.0, places=4)
        expect(page.locator(":focus")).to_have_id(f"clip-{ref}-0")  # the hand stays on it
        self.press(page, "ArrowUp")
        self.assertEqual(self.of(ref)[0].gain_db, 0.5)
        self.press(page, "d")
        self.assertEqual(len(self.of(ref)), 2)
        there = round((before.start_s + 3.0) * self.mix.sample_rate_hz)
        player = "import('/static/listen/player.js').then(({ player }) => "
        page.evaluate(f"{player} player.jump({there}))")
        expect(page.locator(":focus")).to_have_id(f"clip-{ref}-0")
        self.press(page, "s")
        first, second, copy = self.of(ref)
        self.assertAlmostEqual(first.length_s or 0, 2.0, places=3)
        self.assertAlmostEqual(second.in_s, 2.0, places=3)
        self.assertGreater(copy.start_s, second.start_s)
        self.press(page, "Delete")
        self.assertEqual(len(self.of(ref)), 2)
        self.clip(ref).focus()
        self.settled(page)  # its numbers are there
        field = page.locator("#clip input[aria-label$='fade out']")
        field.fill("1.5")
        with page.expect_response(lambda r: r.request.method == "POST"):
            page.keyboard.press("Enter")
        self.assertEqual(self.of(ref)[0].fade_out_s, 1.5)
        expect(page.locator("#clip input[aria-label$='fade out']")).to_have_value("1.500")

    def test_two_clips_nudged_one_after_the_other_are_both_kept(self) -> None:
        page, refs = self.page, ("sea", "rain")
        before = [self.of(ref)[0].start_s for ref in refs]
        for ref in refs:
            self.clip(ref).focus()
            page.keyboard.press("Shift+ArrowRight")
        page.keyboard.press("ArrowUp")  # another number of the same

        def now() -> tuple[list[float], float]:
            return [self.of(ref)[0].start_s for ref in refs], self.of("rain")[0].gain_db

        self.wait_for(lambda: now() == ([one + 1.0 for one in before], 0.5))
        edit = HeldBack(page, "**/intake/edit", answered=True)
        page.keyboard.press("ArrowUp")
        edit.came()
        page.keyboard.press("ArrowUp")
        edit.let_go()  # what is drawn now does not know of the last step
        expect(page.locator("#clip input[aria-label$='gain']")).to_have_value("1.0")
        self.assertEqual(self.clip("rain").get_attribute("data-gain"), "1.5")
        page.click("#undo")  # of the last step, though it is not kept yet
        expect(page.locator("#redo")).to_be_enabled()
        self.assertEqual(now()[1], 1.0)
        for _ in range(4):
            with page.expect_response(lambda r: "undo" in r.url):
                page.click("#undo")
        self.assertEqual(now(), (before, 0.0))

    def test_a_clip_goes_to_another_track_and_several_lie_on_one(self) -> None:
        self.drag(self.clip("drum_one"), 0.5, 30, 120, 60)
        self.assertEqual((len(self.of("drum_one")), len(self.of("drum_two"))), (0, 2))
        self.drag(self.clip("drum_two", 1), 0.5, 30, 0, -120)  # to a stereo track, by an empty one
        found = [len(self.of(ref)) for ref in ("hand_bells", "drum_one", "drum_two")]
        self.assertEqual(found, [1, 1, 1])

    def test_markers_are_set_named_moved_and_heard_from(self) -> None:
        def markers() -> list[tuple[float, str]]:
            held = document_of(Mix.objects.get(pk=self.mix.pk)).markers
            return [(one.at_s, one.name) for one in held]

        page, place = self.page, self.page.locator("#listen .clock input")
        before = len(markers())
        expect(page.locator(".marker")).to_have_count(before)
        place.fill("00:30.0")
        place.press("Enter")
        page.keyboard.press("m")
        expect(page.locator(".marker")).to_have_count(before + 1)
        page.locator(".marker[data-at='30.0']").click()
        page.keyboard.press("Shift+ArrowRight")  # what the mouse has chosen has the keys
        self.wait_for(lambda: (31.0, "") in markers())
        page.keyboard.press("Shift+ArrowLeft")
        self.wait_for(lambda: (30.0, "") in markers())
        page.get_by_label("Name of the marker").fill("Half way")
        page.get_by_label("Name of the marker").press("Tab")
        self.wait_for(lambda: (30.0, "Half way") in markers())
        mark = page.locator(".marker[data-at='30.0']")
        box = self.box(mark)
        page.mouse.move(box["x"] + 4, box["y"] + 8)
        page.mouse.down()
        page.mouse.move(box["x"] + 34, box["y"] + 8, steps=4)
        page.mouse.up()
        self.wait_for(lambda: [at for at, name in markers() if name == "Half way" and at > 31.0])
        page.locator(".marker", has_text="Half way").press("ArrowLeft")
        page.keyboard.press("Enter")  # heard from there
        self.wait_for(
            lambda: (
                page.evaluate(
                    "import('/static/listen/player.js').then(({ player }) => player.position)"
                )
                > 31 * 48000
            )
        )
        page.locator(".marker", has_text="Half way").press("Delete")
        expect(page.locator(".marker")).to_have_count(before)
        page.click("#undo")
        expect(page.locator(".marker", has_text="Half way")).to_have_count(1)
        page.click("nav >> text=Field")  # everywhere
        expect(page.locator("#tabs [aria-current]")).to_have_text("Field")
        page.locator("#listen [data-start]").click()
        page.keyboard.press("n")
        expect(place).to_have_value("00:04.0")
        page.keyboard.press("Shift+N")
        page.keyboard.press("m")
        self.wait_for(lambda: (4.0, "") in markers())

    def test_zooming_shows_single_samples_and_the_whole(self) -> None:
        page = self.page
        shows = page.locator("[data-shows]")
        whole = shows.inner_text()
        for _ in range(16):
            page.click("[data-zoom='2']")
        expect(shows).to_have_text(re.compile(r"^0:\d\d\.\d{4} to"))
        self.settled(page)
        ink = """() => [...document.querySelectorAll('.clip:not([hidden]) canvas')].some((one) =>
            one.getContext('2d').getImageData(0, 0, one.width, one.height).data.some(Boolean))"""
        page.click("[data-zoom=fit]")
        expect(shows).to_have_text(whole)
        self.wait_for(lambda: page.evaluate(ink))


class Arriving(BrowserTest):
    def setUp(self) -> None:
        super().setUp()
        self.page = self.open()
        self.mix = Mix.objects.get(title="Quiet Water")
        self.page.goto(f"{self.address}/mix/{self.mix.pk}/intake/")
        self.settled(self.page)
        folder = self.enterContext(tempfile.TemporaryDirectory())
        self.path = Path(folder) / "long.wav"  # three pieces
        soundfile.write(str(self.path), noise(2, 75.0).T, RATE_HZ, subtype="PCM_24")
        self.sent: list[str] = []

    def choose(self) -> None:
        self.page.set_input_files("input[type=file]", str(self.path))

    def cut(self, route: Route) -> None:
        """The connection breaks at every piece that begins at one of these."""
        request = route.request
        self.sent.append(f"{request.method} {request.headers.get('upload-offset', '')}".strip())
        if request.method == "PATCH" and self.sent[-1] in self.broken:
            self.broken.remove(self.sent[-1])
            route.abort("connectionreset")
        else:
            route.continue_()

    def test_a_cut_off_piece_is_sent_again_and_nothing_else(self) -> None:
        piece = 8 * 1024 * 1024
        self.broken = [f"PATCH {piece}"]
        catch(self.page, "**/intake/arrivals*", self.cut)
        catch(self.page, "**/intake/arrivals/*", self.cut)
        self.choose()
        expect(self.page.locator("#clip-long-0")).to_be_visible(timeout=WORK_MS)
        sent = [one for one in self.sent if one.split()[0] in ("POST", "PATCH", "HEAD")]
        wanted = [
            "POST",
            "PATCH 0",
            f"PATCH {piece}",
            "HEAD",
            f"PATCH {piece}",
            f"PATCH {2 * piece}",
        ]
        self.assertEqual([one for one in sent if one != "POST 0"], wanted)
        self.faults.clear()  # the console tells of the broken connection

    def test_after_the_page_was_closed_it_goes_on_where_it_broke_off(self) -> None:
        piece = 8 * 1024 * 1024
        self.path = self.path.rename(self.path.with_name("rest.wav"))
        before = Arrival.objects.count()
        catch(self.page, "**/intake/arrivals/*", lambda route: self.stop_at(route, piece))
        self.choose()
        expect(self.page.locator("#sending")).to_contain_text("the connection broke")
        self.page.reload()
        self.faults.clear()
        expect(self.page.locator("#arrivals")).to_contain_text("choose it again to go on")
        self.page.unroute_all()
        self.choose()
        expect(self.page.locator("#clip-rest-0")).to_be_visible(timeout=WORK_MS)
        self.assertEqual(Arrival.objects.count(), before + 1)
        arrival = Arrival.objects.latest("pk")  # no second one was begun
        self.assertEqual((arrival.name, arrival.status), ("rest.wav", "done"))
        self.assertEqual(StripOf(self.mix, "rest").recording.frames, 75 * RATE_HZ)

    def stop_at(self, route: Route, offset: int) -> None:
        if route.request.headers.get("upload-offset") == str(offset):
            route.abort("connectionreset")
        else:
            route.continue_()
