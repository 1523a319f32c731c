"""Intake in the browser: recordings set in time by mouse and by keys."""

import re

from playwright.sync_api import Locator, Page, expect

from metaphon.web.mixes.models import Clip, Mix
from tests.browser.server import BrowserTest


class TimeLine(BrowserTest):
    def setUp(self) -> None:
        super().setUp()
        self.page = self.open()
        self.mix = Mix.objects.get(title="The Lamp at Skerrow")
        self.page.goto(f"{self.address}/mix/{self.mix.pk}/intake/")
        self.page.wait_for_load_state("networkidle")

    def of(self, ref: str) -> list[Clip]:
        return list(Clip.objects.filter(track__mix=self.mix, track__ref=ref).order_by("position"))

    def clip(self, ref: str, place: int = 0) -> Locator:
        return self.page.locator(f"#clip-{ref}-{place}")

    def drag(
        self, clip: Locator, from_x: float, from_y: float, by_x: float, by_y: float = 0
    ) -> None:
        """From a place in the clip, as parts of its width (x) and pixels from its top (y)."""
        clip.evaluate("(clip) => clip.scrollIntoView({ block: 'center' })")
        box = clip.bounding_box()
        assert box
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
        whole_s = ended.audio.frames / self.mix.sample_rate_hz
        self.assertAlmostEqual(ended.length_s or 0, whole_s - 110 * second, delta=5 * second)
        self.drag(self.clip("gull"), 0.0, 5, 40)
        self.assertAlmostEqual(self.of("gull")[0].fade_in_s, 40 * second, delta=3 * second)
        for _ in range(4):
            with self.page.expect_response(lambda r: "undo" in r.url):
                self.page.click("#undo")
        [back] = self.of("gull")
        self.assertEqual((back.start_s, back.in_s, back.length_s), (before.start_s, 0.0, None))

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
        field = page.locator("#clip input[aria-label$='fade out']")
        field.fill("1.5")
        with page.expect_response(lambda r: r.request.method == "POST"):
            page.keyboard.press("Enter")
        self.assertEqual(self.of(ref)[0].fade_out_s, 1.5)
        expect(page.locator("#clip input[aria-label$='fade out']")).to_have_value("1.500")

    def test_a_clip_goes_to_another_track_and_several_lie_on_one(self) -> None:
        self.drag(self.clip("drum_one"), 0.5, 30, 120, 60)
        self.assertEqual((len(self.of("drum_one")), len(self.of("drum_two"))), (0, 2))
        self.drag(self.clip("drum_two", 1), 0.5, 30, 0, -120)  # to a stereo track, by an empty one
        found = [len(self.of(ref)) for ref in ("hand_bells", "drum_one", "drum_two")]
        self.assertEqual(found, [1, 1, 1])

    def test_zooming_shows_single_samples_and_the_whole(self) -> None:
        page = self.page
        shows = page.locator("[data-shows]")
        whole = shows.inner_text()
        for _ in range(16):
            page.click("[data-zoom='2']")
        expect(shows).to_have_text(re.compile(r"^0:\d\d\.\d{4} to"))
        page.wait_for_load_state("networkidle")
        ink = """() => [...document.querySelectorAll('.clip:not([hidden]) canvas')].some((one) =>
            one.getContext('2d').getImageData(0, 0, one.width, one.height).data.some(Boolean))"""
        page.click("[data-zoom=fit]")
        expect(shows).to_have_text(whole)
        self.wait_for(lambda: page.evaluate(ink))
