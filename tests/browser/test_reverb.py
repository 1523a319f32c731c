"""Reverb in a real browser: spaces made, sent to, heard, changed, held, simulated."""

from typing import Any

from playwright.sync_api import Page, expect

from metaphon.web.mixes.models import Mix, SpaceResponse
from metaphon.web.mixes.snapshots import document_of
from tests.browser.server import WORK_MS, BrowserTest


class Reverb(BrowserTest):
    def lamp(self, page: Page, query: str = "") -> Mix:
        mix = Mix.objects.get(title="The Lamp at Skerrow")
        page.goto(f"{self.address}/mix/{mix.pk}/reverb/{query}")
        self.settled(page)
        return mix

    def held(self, name: str) -> Any:
        mix = Mix.objects.get(title="The Lamp at Skerrow")
        return document_of(mix).find_strip(name)

    def level(self, page: Page, strip: str) -> float:
        """How loud a strip is now, in dB; -120 for nothing."""
        found = page.evaluate(
            "(strip) => import('/static/listen/player.js').then(({ player }) => "
            "player.current?.readings.strips[strip] ?? -120)",
            strip,
        )
        return float(found)

    def test_a_space_by_response_is_made_sent_to_and_heard(self) -> None:
        page = self.open()
        self.lamp(page)
        page.click("button:has-text('Space by response')")
        expect(page.locator("#tail h2").first).to_have_text("Boat shed")
        expect(page.locator("#tail")).to_contain_text("Boat shed, spaced omnis, middle")
        # both ways to send: before the fader and after it
        page.click("nav a:has-text('Sends')")
        page.click("[aria-label='Send Gull to Boat shed']")
        page.click('[aria-label="Send Ship\'s horn to Boat shed"]')
        taken = page.locator("[aria-label='Gull to Boat shed, taken']")
        taken.select_option("pre")
        self.wait_for(lambda: [s.tap for s in self.held("gull").sends][-1] == "pre")
        self.assertEqual(self.held("horn").sends[-1].tap, "post")
        # it sounds, and its microphone and distance are one press each
        page.click("nav a:has-text('Space')")
        page.click("aside a:has-text('Boat shed')")
        page.click("#listen button:has-text('Play')")
        expect(page.locator("#listen .now")).not_to_have_value("00:00.0")
        page.click("[aria-label=Microphone] button:has-text('Ambisonic')")
        expect(page.locator("#tail")).to_contain_text("Boat shed, ambisonic, middle")
        page.click("[aria-label=Distance] button:has-text('Far')")
        expect(page.locator("#tail")).to_contain_text("Boat shed, ambisonic, far")
        page.select_option("select[aria-label=Space]", label="Quay chapel")
        expect(page.locator("#tail")).to_contain_text("Quay chapel, ambisonic, far")
        self.wait_for(lambda: self.level(page, "boat_shed") > -60.0)
        file = self.held("boat_shed").chain[0].file
        self.assertEqual(file.name, "quay_chapel_ambisonic_far.flac")
        expect(page.locator("#listen button:has-text('Pause')")).to_be_visible()
        page.click("[aria-label='Where the return stands'] button:has-text('Above and behind')")
        self.wait_for(lambda: self.held("boat_shed").placement.mode == "object")

    def test_a_tail_is_held_and_let_go(self) -> None:
        page = self.open()
        self.lamp(page, "?strip=cave")
        hold = page.locator("button.hold")
        hold.click()
        expect(hold).to_have_attribute("aria-pressed", "true")
        self.assertEqual(self.held("cave").chain[0].hold, 1.0)
        page.click("button.hold")
        expect(hold).to_have_attribute("aria-pressed", "false")
        self.assertEqual(self.held("cave").chain[0].hold, 0.0)
        page.keyboard.press("Control+z")
        expect(hold).to_have_attribute("aria-pressed", "true")

    def test_decay_is_dragged_by_band_and_nudged_by_keys(self) -> None:
        page = self.open()
        self.lamp(page, "?strip=cave")
        line = page.locator("path.set")
        drawn = line.get_attribute("d") or ""
        handle = page.locator("#decay-middle")
        spot = handle.bounding_box()
        assert spot
        x, y = spot["x"] + spot["width"] / 2, spot["y"] + spot["height"] / 2
        page.mouse.move(x, y)
        page.mouse.down()
        page.mouse.move(x, y + 40, steps=5)
        expect(line).not_to_have_attribute("d", drawn)  # it goes along with the hand
        page.mouse.up()
        self.wait_for(lambda: self.held("cave").chain[0].decay_s < 2.0)
        shorter = self.held("cave").chain[0].decay_s
        page.locator("#decay-middle").focus()
        page.keyboard.press("ArrowUp")
        page.keyboard.press("ArrowUp")
        self.wait_for(lambda: self.held("cave").chain[0].decay_s > 1.25 * shorter)
        expect(page.locator("#decay-middle")).to_be_focused()
        page.locator("#decay-bass").focus()
        page.keyboard.press("ArrowUp")
        self.wait_for(lambda: self.held("cave").chain[0].bass_decay > 1.1)

    def test_many_are_sent_at_once_in_the_matrix(self) -> None:
        page = self.open()
        self.lamp(page, "?view=sends")
        for name in ("Rain", "Sea"):
            page.check(f"label:has-text('{name}') input")
        page.fill("[aria-label='Level of the ticked to Shed, dB']", "-18")
        page.click("th:has-text('Shed') button:has-text('Ticked')")
        self.wait_for(
            lambda: all(
                ("shed", -18.0) in [(s.bus, s.level_db) for s in self.held(name).sends]
                for name in ("rain", "sea")
            )
        )
        level = page.locator("[aria-label='Rain to Shed']")
        level.fill("-20")
        level.press("Enter")
        self.wait_for(lambda: self.held("rain").sends[-1].level_db == -20.0)
        page.click("[aria-label='Take away Rain to Shed']")
        self.wait_for(lambda: self.held("rain").sends == ())

    def test_a_space_is_built_simulated_and_used(self) -> None:
        page = self.open()
        self.lamp(page, "?view=build")
        page.fill("[name=room-title]", "Tool store")
        page.fill("[name=room-width_m]", "3")
        page.fill("[name=room-depth_m]", "4")
        page.press("[name=room-depth_m]", "Tab")
        expect(page.locator("#messages")).to_contain_text("stands outside the room")
        page.fill("[name=microphone0-distance_m]", "1.2")
        page.select_option("[name=room-floor]", "carpet")
        page.select_option("[name=room-walls]", "curtains")
        expect(page.locator("#plan h2")).to_have_text("Tool store")
        expect(page.locator("#plan")).to_contain_text("48 m³")
        page.click("button:has-text('Add a microphone')")
        page.select_option("[name=microphone1-pattern]", "ambisonic")
        page.click("button:has-text('Simulate')")
        rows = page.locator("#responses tbody tr")
        expect(rows).to_have_count(2, timeout=WORK_MS)
        self.assertEqual(SpaceResponse.objects.count(), 2)
        with page.expect_download() as given:
            rows.first.locator("a:has-text('WAV')").click()
        self.assertTrue(given.value.suggested_filename.endswith(".wav"))
        rows.first.locator("button:has-text('New bus')").click()
        expect(page.locator("#tail h2").first).to_have_text("Tool store")
        page.click("nav a:has-text('Build')")
        page.once("dialog", lambda dialog: dialog.accept())
        rows.first.locator("[aria-label^='Delete']").click()
        expect(page.locator("#messages")).to_contain_text("uses this response")
