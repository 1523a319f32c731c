"""Every page and every dialog, by night and by day; and what a redraw must not take away."""

import tempfile
from pathlib import Path

from playwright.sync_api import Page, expect

from metaphon.web.jobs.models import Survey
from metaphon.web.jobs.tasks import survey_mix
from metaphon.web.mixes.models import Mix
from tests.browser.server import WORK_MS, BrowserTest, HeldBack
from tests.sounds import RATE_HZ, sine
from tests.web.base import StripOf, recording

AXE = Path(__file__).parent / "vendor" / "axe.min.js"


class EveryPage(BrowserTest):
    def places(self) -> list[str]:
        mix = Mix.objects.get(title="The Lamp at Skerrow")
        return [
            "",
            *(
                f"mix/{mix.pk}/{place}"
                for place in (
                    "intake/",
                    "flow/?view=table",
                    "flow/?view=map&strip=gull",
                    "flow/?view=map&strip=cave",
                    "field/?strip=gull",
                    "field/?truth=vector&strip=boat",
                    "coherence/?view=pairs",
                    "coherence/?view=phase&strip=cave",
                    "listen/?view=meters",
                    "listen/?view=compare",
                    "listen/?view=headphones",
                    "listen/?view=loudspeakers",
                    "handover/",
                )
            ),
            "account",
        ]

    def test_each_is_accessible_fits_and_its_dialogs_open(self) -> None:
        page = self.open()
        page.add_init_script(path=AXE)
        opened: set[str] = set()
        for place in self.places():
            with self.subTest(place):
                page.goto(f"{self.address}/{place}")
                self.settled(page)
                self.examine(page)
                self.open_dialogs(page, opened)
                self.by_day(page)
                self.at_twice_the_size(page)
        self.assertGreaterEqual(len(opened), 7, opened)

    def examine(self, page: Page, rules: str = "['wcag2a', 'wcag2aa']") -> None:
        found = page.evaluate(
            f"axe.run(document, {{ runOnly: {rules}, resultTypes: ['violations'] }}).then("
            "({ violations }) => violations.map(({ id, nodes }) => [id, nodes[0].html]))"
        )
        self.assertEqual(found, [])

    def open_dialogs(self, page: Page, opened: set[str]) -> None:
        for button in page.locator("[popovertarget]:visible").all():
            name = button.get_attribute("popovertarget") or ""
            if name in opened:
                continue
            opened.add(name)
            button.click()
            box = page.locator(f"#{name}")
            expect(box).to_be_visible()
            expect(box).not_to_be_empty()
            self.settled(page)
            with self.subTest(dialog=name):
                self.examine(page)
            page.keyboard.press("Escape")
            expect(box).to_be_hidden()
        for summary in page.locator("summary:visible").all():
            summary.click()
            expect(summary.locator("xpath=..")).to_have_attribute("open", "")

    def by_day(self, page: Page) -> None:
        """Other colours, nothing else."""
        page.click("#theme")
        expect(page.locator("html")).to_have_attribute("data-theme", "day")
        self.examine(page, "['color-contrast']")
        page.click("#theme")

    def at_twice_the_size(self, page: Page) -> None:
        page.set_viewport_size({"width": 640, "height": 400})  # 1280x800 at 200 %
        self.assertLessEqual(page.evaluate("document.documentElement.scrollWidth"), 640)
        if page.locator("#listen").count():
            expect(page.locator("#listen .play")).to_be_in_viewport()
        page.set_viewport_size({"width": 1280, "height": 800})

    def test_parts_opened_as_addresses_lead_to_their_page(self) -> None:
        page = self.open()
        mix = Mix.objects.get(title="The Lamp at Skerrow")
        for part, leads_to in {
            "findings/": "flow/",
            "history": "flow/",
            "flow/map": "flow/",
            "flow/strip/gull": "flow/?strip=gull",
            "field/strip/gull": "field/?strip=gull",
            "coherence/pair": "coherence/",
        }.items():
            page.goto(f"{self.address}/mix/{mix.pk}/{part}")
            expect(page).to_have_url(f"{self.address}/mix/{mix.pk}/{leads_to}")
            expect(page.locator("#listen .play")).to_be_visible()


class Stumbles(BrowserTest):
    def lamp(self, page: Page, place: str) -> Mix:
        mix = Mix.objects.get(title="The Lamp at Skerrow")
        page.goto(f"{self.address}/mix/{mix.pk}/{place}")
        self.settled(page)
        return mix

    def test_the_first_recording_plays_without_a_reload(self) -> None:
        page = self.open()
        page.goto(self.address)
        page.click("text=New mix")
        page.fill("[placeholder='Name of a new mix']", "Slipway")
        page.click("button:has-text('Make a mix')")
        self.settled(page)
        expect(page.locator("#listen .play")).to_be_disabled()
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "hum.wav"
            path.write_bytes(recording(sine(220.0, 20.0, -20.0)))
            page.set_input_files("input[type=file]", str(path))
            expect(page.locator("#tracks .clip")).to_have_count(1, timeout=WORK_MS)
        expect(page.locator("#listen .play")).to_be_enabled()
        page.click("nav >> text=Field")
        page.click("#listen .play")
        place = "import('/static/listen/player.js').then(({ player }) => player.position)"
        self.wait_for(lambda: page.evaluate(place) > RATE_HZ / 2)

    def test_a_starting_mix_sounds_in_the_first_minute(self) -> None:
        page = self.open()
        page.goto(self.address)
        page.click("text=New mix")
        page.fill("[placeholder='Name of a new mix']", "Breakwater")
        page.click("text=7.1.4 with beds and returns")
        page.click("button:has-text('Make a mix')")
        self.settled(page)
        expect(page.locator(".clip")).to_have_count(1)
        page.click("#listen .play")
        player = "import('/static/listen/player.js').then(({ player }) => "
        level = f"{player} player.step?.peak?.[0] ?? -120)"
        self.wait_for(lambda: page.evaluate(level) > -40)
        page.click("#listen .play")  # who listens comes before what looks for faults
        expect(page.locator("#findings-button")).to_have_attribute(
            "aria-label", "Findings, nothing wrong", timeout=WORK_MS
        )

    def test_a_press_outlives_a_redraw(self) -> None:
        page = self.open()
        mix = self.lamp(page, "flow/?view=table")
        page.locator("[aria-label^='Mute ']").first.focus()  # the press takes the focus from it
        button = page.get_by_label("Mute Gull", exact=True)
        box = button.bounding_box()
        assert box
        page.mouse.move(box["x"] + 8, box["y"] + 8)
        page.mouse.down()
        with page.expect_response(lambda r: r.request.method == "GET"):
            page.evaluate("document.dispatchEvent(new CustomEvent('mix-changed', {detail: {}}))")
        page.wait_for_timeout(200)  # its answer is there, and would have been drawn
        page.mouse.up()
        expect(button).to_have_attribute("aria-pressed", "true")
        self.assertTrue(StripOf(mix, "gull").muted)
        button.focus()
        page.keyboard.down(" ")
        with page.expect_response(lambda r: r.request.method == "GET"):
            page.evaluate("document.dispatchEvent(new CustomEvent('mix-changed', {detail: {}}))")
        page.wait_for_timeout(200)
        page.keyboard.up(" ")
        expect(button).to_have_attribute("aria-pressed", "false")

    def test_a_redraw_of_one_view_is_not_drawn_in_the_next(self) -> None:
        page = self.open()
        self.lamp(page, "handover/")
        asked = HeldBack(page, "**/handover/")
        page.evaluate("document.dispatchEvent(new CustomEvent('mix-changed', {detail: {}}))")
        asked.came()
        page.locator("nav[aria-label=View]").get_by_text("Platform").click()
        current = page.locator("nav[aria-label=View] [aria-current]")
        expect(current).to_have_text("Platform")
        with page.expect_response(lambda r: "view=platform" in r.url):  # it is asked for anew
            asked.let_go()
        expect(current).to_have_text("Platform")

    def test_nothing_can_be_chosen_where_it_would_be_lost(self) -> None:
        """A page is dead until its scripts are here, and a workspace is not drawn before."""
        page = self.open()
        script = HeldBack(page, "**/intake/intake.js")
        mix = Mix.objects.get(title="The Lamp at Skerrow")
        page.goto(f"{self.address}/mix/{mix.pk}/intake/", wait_until="commit")
        script.came()
        expect(page.locator("body[inert]")).to_have_count(1)
        script.let_go()
        expect(page.locator("body[inert]")).to_have_count(0)
        script = HeldBack(page, "**/listen/workspace.js")
        page.click("#tabs >> text=Listen")
        script.came()
        expect(page.locator("[data-upload]")).to_have_count(1)
        expect(page.locator(".listening")).to_have_count(0)
        script.let_go()
        page.select_option("aside [aria-label=Target]", "0+5+0")
        chosen = "import('/static/listen/player.js').then((m) => m.player.state.monitor_sources.a)"
        self.assertEqual(page.evaluate(chosen)["target"], "0+5+0")

    def test_findings_stay_open_say_what_became_of_one_and_go_on_to_the_next(self) -> None:
        survey_mix(mix_id=Mix.objects.get(title="The Lamp at Skerrow").pk)
        page = self.open()
        mix = self.lamp(page, "flow/?view=map")
        page.click("#findings-button")
        box = page.locator("#findings-list")
        late = box.locator(".finding", has_text="later than")
        expect(late.get_by_role("button")).to_have_text(["Pull it forward", "Hold the other back"])
        late.get_by_role("button", name="Pull it forward").click()
        expect(box).to_be_visible()
        expect(box.locator(".mended")).to_contain_text("Mended. Bell buoy far, basics: delay -0.7")
        expect(box.locator(".finding:focus")).to_have_count(1)  # the next
        found = page.locator("#findings-body .finding", has_text="later than")
        self.assertEqual(found.count(), 0)  # though the mix is not yet listened to again
        box.locator(".mended button").click()
        expect(page.locator("#messages")).to_contain_text("Undid")
        expect(box).to_be_visible()
        self.assertFalse(StripOf(mix, "buoy_far").chain)

    def test_what_is_not_looked_at_yet_is_not_called_right(self) -> None:
        page = self.open()
        mix = Mix.objects.get(title="Quiet Water")
        Survey.objects.filter(mix=mix).delete()
        page.goto(f"{self.address}/mix/{mix.pk}/flow/")
        button = page.locator("#findings-button")
        expect(button).to_have_attribute("aria-label", "Findings, not listened to yet")
        expect(button).to_have_attribute("aria-label", "Findings, nothing wrong", timeout=WORK_MS)
        empty = Mix.objects.exclude(strips__clips__isnull=False).first()
        assert empty
        page.goto(f"{self.address}/mix/{empty.pk}/flow/")
        expect(button).to_have_attribute("aria-label", "Findings, nothing to listen to yet")

    def test_too_few_outputs_are_told_in_the_bar_and_not_over_the_screen(self) -> None:
        page = self.open()
        self.lamp(page, "listen/?view=loudspeakers")
        page.select_option("[data-monitor-source]", value='{"target":"4+7+0"}')
        page.select_option("[data-bind='monitor.loudspeakers.layout']", "4+7+0")
        page.click("text=Hear through them")
        page.click("#listen .play")
        chip = page.locator("#listen .chip", has_text="10 loudspeakers without an output")
        expect(chip).to_be_visible()
        expect(page.locator("#messages > *")).to_have_count(0)
        chip.click()
        expect(page.locator("#listen .chip", has_text="Binaural")).to_be_visible()
        expect(chip).to_have_count(0)

    def test_anything_is_found_by_typing_and_keys_are_told(self) -> None:
        page = self.open()
        mix = self.lamp(page, "flow/?view=table")
        page.keyboard.press("Control+k")
        page.keyboard.type("mute gull")
        expect(page.locator("#palette-list .found")).to_have_count(1)
        with page.expect_response(lambda r: r.request.method == "POST"):
            page.keyboard.press("Enter")
        self.assertTrue(StripOf(mix, "gull").muted)
        expect(page.locator("#palette")).to_be_hidden()
        page.keyboard.press("Control+k")
        page.keyboard.type("gull gain")
        page.keyboard.press("Enter")
        expect(page.get_by_label("Gull gain", exact=True)).to_be_focused()
        page.keyboard.press("Control+k")
        page.keyboard.type("gull: pl")
        expect(page.locator("#palette-list a")).to_have_count(1)
        page.keyboard.press("Enter")
        expect(page).to_have_url(f"{self.address}/mix/{mix.pk}/field/?strip=gull")
        expect(page.locator("[aria-current=page]")).to_have_text(["Field"])
        page.keyboard.press("Control+k")
        page.keyboard.type("walrus")
        expect(page.locator("#palette")).to_contain_text("Nothing here is called that.")
        page.keyboard.press("Escape")
        page.keyboard.press("?")
        expect(page.locator("#keys")).to_contain_text("Split at the playhead")

    def test_a_page_comes_whole_though_its_link_went_while_it_was_on_its_way(self) -> None:
        page = self.open()
        mix = self.lamp(page, "flow/?view=table")
        page.keyboard.press("Control+k")
        page.keyboard.type("gull: pl")
        expect(page.locator("#palette-list a")).to_have_count(1)
        asked = HeldBack(page, "**/field/?*")
        page.keyboard.press("Enter")
        asked.came()
        page.evaluate("document.getElementById('palette-list').replaceChildren()")
        asked.let_go()
        expect(page).to_have_url(f"{self.address}/mix/{mix.pk}/field/?strip=gull")
        expect(page.locator("[aria-current=page]")).to_have_text(["Field"])
        expect(page.locator("header")).to_have_count(1)

    def test_a_state_of_the_history_is_heard_against_now(self) -> None:
        page = self.open()
        mix = self.lamp(page, "flow/?view=table")
        for text in ("-20", "-30"):
            with page.expect_response(lambda r: r.request.method == "POST"):
                page.get_by_label("Rain gain", exact=True).fill(text)
                page.keyboard.press("Enter")
        page.click("#history button:has-text('History')")
        earlier = page.locator("#history-list .state").nth(1)
        earlier.get_by_role("textbox").fill("Softer rain")
        page.keyboard.press("Enter")
        expect(page.locator("#history-list b")).to_have_text("Softer rain")
        expect(page.locator("#history-list")).to_be_visible()
        earlier.get_by_text("Compare").click()
        side = "import('/static/listen/player.js').then(({ player }) => %s)"
        source = page.evaluate(side % "player.state.monitor_sources.b.source")
        self.assertEqual(source, f"revision {mix.journal.get(name='Softer rain').revision}")
        self.assertTrue(page.evaluate(side % "player.state.comparing && player.playing"))
        with page.expect_response(lambda r: r.request.method == "POST"):
            earlier.get_by_text("Return").click()
        expect(page.locator("#messages")).to_contain_text("Went back to: Softer rain")
        expect(page.get_by_label("Rain gain", exact=True)).to_have_value("−20.0")
