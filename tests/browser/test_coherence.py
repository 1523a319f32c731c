"""Coherence in a real browser: a pair is found, mended in two presses, and read on its curves."""

from playwright.sync_api import Page, expect

from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.snapshots import document_of
from tests.browser.server import BrowserTest


class Coherence(BrowserTest):
    def lamp(self, page: Page, place: str) -> Mix:
        mix = Mix.objects.get(title="The Lamp at Skerrow")
        page.goto(f"{self.address}/mix/{mix.pk}/{place}")
        page.wait_for_load_state("networkidle")
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
        expect(page.locator(".facts")).to_contain_text("none found")
        page.fill("[name=at_s]", "soon")
        page.press("[name=at_s]", "Enter")
        expect(page.locator("#messages")).to_contain_text("The time shown is a number")
        self.assertEqual(Mix.objects.get(pk=mix.pk).revision, mix.revision)

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
