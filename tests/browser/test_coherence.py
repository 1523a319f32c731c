"""Coherence in a real browser: a pair is found, mended in two presses, and read on its curves."""

import re
from typing import Any

from playwright.sync_api import Page, expect

from metaphon.core.edits.registry import read
from metaphon.web.mixes import journal
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.snapshots import document_of
from tests.browser.server import WORK_MS, BrowserTest


class Coherence(BrowserTest):
    def lamp(self, page: Page, place: str) -> Mix:
        mix = Mix.objects.get(title="The Lamp at Skerrow")
        page.goto(f"{self.address}/mix/{mix.pk}/{place}")
        self.settled(page)
        return mix

    def test_the_late_and_turned_microphone_is_mended_in_two_presses(self) -> None:
        page = self.open()
        mix = self.lamp(page, "flow/")
        # it is looked for as soon as the mix is opened
        self.wait_for(lambda: getattr(Mix.objects.get(pk=mix.pk), "survey", None), 60)
        page.click("#tabs a:has-text('Coherence')")
        facts = page.locator(".facts")
        expect(facts).to_contain_text("Bell buoy far comes 0.719")
        expect(facts).to_contain_text("opposed")
        page.click("button:has-text('Pull Bell buoy far forward')")
        expect(facts).to_contain_text("the same")
        expect(page.locator(".mend")).to_contain_text("nothing to mend")
        far = document_of(Mix.objects.get(pk=mix.pk)).find_strip("buoy_far")
        assert far
        basics = next(one for one in far.chain if one.kind == "basics")
        self.assertAlmostEqual(basics.delay_ms, -0.719, delta=0.01)
        self.assertTrue(basics.polarity_inverted)
        page.keyboard.press("Control+z")
        expect(facts).to_contain_text("opposed")

    def test_zoom_span_and_another_mend_are_tried_without_changing_anything(self) -> None:
        page = self.open()
        mix = self.lamp(page, "coherence/?first=buoy_near&other=buoy_far")
        wave = page.locator(".waves path.one").first
        before = wave.get_attribute("d") or ""
        page.keyboard.press(".")
        expect(wave).not_to_have_attribute("d", before)
        page.select_option("[name=width_s]", "1.0")
        expect(page.locator("[name=width_s]")).to_have_value("1.0")
        page.fill("[name=delay_ms]", "-3")
        page.press("[name=delay_ms]", "Enter")
        expect(page.locator("button:has-text('As found')")).to_be_visible()
        page.click("button:has-text('As found')")
        expect(page.locator("[name=delay_ms]")).to_have_value("-0.7188")
        page.select_option("[name=other]", "gull")
        expect(page.locator(".facts")).to_contain_text("Not the same sound")
        page.fill("[name=at_s]", "soon")
        page.press("[name=at_s]", "Enter")
        expect(page.locator("#messages")).to_contain_text("The time shown is a number")
        self.assertEqual(Mix.objects.get(pk=mix.pk).revision, mix.revision)

    def test_a_fold_down_is_measured_and_its_worst_moment_gone_to(self) -> None:
        page = self.open()
        self.lamp(page, "coherence/?view=fold")
        page.click("button:text-is('Measure')")
        expect(page.locator(".way")).to_have_count(4, timeout=WORK_MS)
        mono = page.locator(".way").first
        expect(mono).to_contain_text("Stereo to mono")
        expect(mono.locator("li").first).to_contain_text("without")
        jump = mono.locator("[data-jump]")
        at_s = float(jump.get_attribute("data-jump") or 0.0)
        jump.click()
        expect(page.locator("#listen .now")).to_have_value(f"00:{at_s:04.1f}")
        mono.locator(".time").click(position={"x": 5, "y": 10})
        expect(page.locator("#listen .now")).to_have_value(re.compile("00:0"))

    def with_band(self, page: Page, strip: str) -> None:
        """An equaliser with one band, made by a double press."""
        self.mix, self.strip = self.lamp(page, f"coherence/?view=equaliser&strip={strip}"), strip
        page.click("button:has-text('Add an equaliser')")
        expect(page.locator(".likely[aria-current]")).to_contain_text("Equaliser")
        self.board = page.locator(".board svg").bounding_box() or {}
        x, y = self.board["x"], self.board["y"]
        page.mouse.dblclick(x + 0.6 * self.board["width"], y + 0.35 * self.board["height"])
        expect(page.locator(".handle")).to_have_count(1)
        self.settled(page)

    def band(self) -> Any:
        strip = document_of(Mix.objects.get(pk=self.mix.pk)).find_strip(self.strip)
        assert strip
        return strip.chain[0].bands[0]

    def test_bands_are_made_dragged_and_sharpened(self) -> None:
        page = self.open()
        self.with_band(page, "hand_bells")
        made, handle = self.band(), page.locator(".handle")
        self.assertGreater(made.gain_db, 1.0)
        level = page.locator("[data-level=both]")
        drawn = level.get_attribute("d") or ""
        spot = handle.locator("circle").bounding_box()
        assert spot
        x, y = spot["x"] + spot["width"] / 2, spot["y"] + spot["height"] / 2
        page.mouse.move(x, y)
        page.mouse.down()
        page.mouse.move(x - 0.2 * self.board["width"], y + 0.4 * self.board["height"], steps=6)
        expect(level).not_to_have_attribute("d", drawn)  # the curve goes along with the hand
        page.mouse.up()
        self.wait_for(lambda: self.band().gain_db < -1.0)
        self.assertLess(self.band().frequency_hz, made.frequency_hz / 3.0)
        handle.focus()
        before = self.band()
        page.keyboard.press("ArrowRight")
        self.wait_for(lambda: self.band().frequency_hz > before.frequency_hz)
        handle.hover()
        page.mouse.wheel(0, -100)
        self.wait_for(lambda: self.band().q > before.q)
        handle.focus()
        page.keyboard.press("Delete")
        expect(handle).to_have_count(0)
        page.keyboard.press("Control+z")
        expect(handle).to_have_count(1)

    def test_a_band_is_heard_alone_and_all_of_them_compared(self) -> None:
        page = self.open()
        self.with_band(page, "choir_hum")
        handle = page.locator(".handle")
        page.evaluate("import('/static/listen/player.js').then((m) => m.player.jump(25 * 48000))")
        page.click("#listen .play")
        expect(page.locator(".board .after")).to_have_attribute("d", re.compile("^M"))
        handle.focus()
        page.keyboard.down("s")
        expect(handle).to_have_class(re.compile("alone"))
        page.keyboard.up("s")
        expect(handle).not_to_have_class(re.compile("alone"))
        page.click("[data-ab]")
        expect(page.locator("[data-ab]")).to_have_text("Heard: B")
        page.keyboard.press("b")
        expect(page.locator("[data-ab]")).to_have_text("Heard: A")
        page.click("#listen .play")

    def test_doubles_are_printed_in_their_place_and_a_bus_stands_round_a_head(self) -> None:
        page = self.open()
        mix = Mix.objects.get(title="The Lamp at Skerrow")
        member = mix.members.get(role="owner")
        routed = read({"kind": "route", "strips": ["rowing_boat"], "to": "boats"})
        journal.apply(mix, member.user, routed)
        self.lamp(page, "coherence/?view=width&strip=gull")
        page.click("button:has-text('+ Doubler')")
        figures = page.locator(".figures")
        expect(figures).to_contain_text("Doubles against original")
        page.click("button:text-is('Two players')")
        expect(page.locator("[aria-label='Doubler, Drift']").first).to_have_value("6.00")
        page.click("button:has-text('Print doubles to a new track')")
        expect(page.locator("aside")).to_contain_text("Gull double", timeout=WORK_MS)
        document = document_of(Mix.objects.get(pk=mix.pk))
        double = next(track for track in document.tracks if track.name == "Gull double")
        gull = document.find_strip("gull")
        assert gull
        self.assertEqual(double.clips[0].start_s, 0.0)
        self.assertEqual(gull.chain[0].doubles, 0.0)
        page.click("aside a:text-is('Boats')")
        expect(page.locator("#width h2").first).to_have_text("Boats")
        page.click("button:has-text('+ Virtual pair')")
        before = figures.inner_text()
        left = page.locator("[aria-label='Virtual pair, Left']")
        left.fill("90")
        left.press("Enter")

        def boats() -> Any:
            bus = document_of(Mix.objects.get(pk=mix.pk)).find_strip("boats")
            assert bus
            return bus.chain[-1]

        self.wait_for(lambda: boats().left_deg == 90.0)
        self.assertEqual(boats().kind, "virtual_pair")
        expect(figures).not_to_have_text(before)

    def test_a_curve_is_read_where_the_pointer_is(self) -> None:
        page = self.open()
        self.lamp(page, "coherence/?view=phase")
        box = page.locator("[data-curve=magnitude] svg").bounding_box()
        assert box
        page.mouse.move(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
        reading = page.locator(".reading")
        expect(reading).to_contain_text("Hz")
        expect(reading).to_contain_text("samples")
        page.click(".likely:has-text('Cave')")
        expect(page.locator(".phase h2")).to_have_text("Cave")
