"""Another language heard, a listener's receiver, the places a mix meets, and the platform."""

import re
import tempfile
from pathlib import Path

import numpy as np
from playwright.sync_api import Page, expect

from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.snapshots import document_of
from tests.browser.server import WORK_MS, BrowserTest
from tests.sounds import sine
from tests.web.base import recording

# how often what is played crosses zero upwards in a second
_PITCH = """async () => {
  const { player } = await import('/static/listen/player.js');
  if (!player.sink) return 0;
  const tap = (window.pitchTap ??= player.context.createAnalyser());
  tap.fftSize = 16384;
  player.sink.connect(tap);
  const samples = new Float32Array(tap.fftSize);
  tap.getFloatTimeDomainData(samples);
  let count = 0;
  for (let i = 1; i < samples.length; i++) if (samples[i - 1] < 0 && samples[i] >= 0) count++;
  return (count * player.context.sampleRate) / samples.length;
}"""


class Programmes(BrowserTest):
    def own_mix(self, page: Page) -> Mix:
        """A narrator at 300 Hz, another at 900 Hz that is muted, both half a minute long."""
        page.goto(self.address)
        page.click("text=New mix")
        page.fill("[placeholder='Name of a new mix']", "Two tongues")
        page.click("button:has-text('Make a mix')")
        self.settled(page)
        with tempfile.TemporaryDirectory() as folder:
            paths = [Path(folder) / name for name in ("English.wav", "Norsk.wav")]
            for frequency_hz, path in zip((300.0, 900.0), paths, strict=True):
                path.write_bytes(recording(sine(frequency_hz, 30.0, -20.0)[None]))
            page.set_input_files("input[type=file]", [str(path) for path in paths])
            expect(page.locator("#tracks .clip")).to_have_count(2, timeout=WORK_MS)
        page.click("nav >> text=Flow")
        self.settled(page)
        page.click("a:has-text('Table')")
        page.get_by_label("Mute Norsk", exact=True).click()
        expect(page.get_by_label("Mute Norsk", exact=True)).to_have_attribute(
            "aria-pressed", "true"
        )
        return Mix.objects.filter(title="Two tongues").latest("pk")

    def view(self, page: Page, name: str) -> None:
        current = page.locator("nav[aria-label=View] [aria-current]")
        page.click("nav >> text=Handover")
        expect(current).to_have_text("Formats")  # so that nothing typed now is drawn over
        if name != "Formats":
            page.locator("nav[aria-label=View]").get_by_text(name, exact=True).click()
            expect(current).to_have_text(name)

    def sounds_at(self, page: Page, hertz: float) -> None:
        self.wait_for(lambda: abs(page.evaluate(_PITCH) - hertz) < 30.0)

    def test_another_language_is_made_heard_and_tried_as_a_listener(self) -> None:
        page = self.open()
        mix = self.own_mix(page)
        self.view(page, "Alternatives")
        for name in ("English", "Norsk"):
            page.select_option("[aria-label='What may differ']", label=name)
            expect(page.get_by_label(f"{name}, word of a choice")).to_be_visible()
            page.get_by_label(f"{name}, word of a choice").fill("Narrator")
            page.get_by_label(f"{name}, word of a choice").press("Tab")
            expect(page.locator("#history")).to_contain_text("Undo")
        page.fill("[aria-label='Name of another programme']", "På norsk")
        page.fill("[aria-label='Its language']", "nb")
        page.click("button:has-text('Make it')")
        page.get_by_label("På norsk, English", exact=True).select_option("silent")
        page.get_by_label("På norsk, Norsk", exact=True).select_option("heard")
        self.wait_for(
            lambda: (
                {
                    (v.strip, v.heard)
                    for one in document_of(Mix.objects.get(pk=mix.pk)).alternatives.programmes
                    for v in one.variations
                }
                == {("english", "silent"), ("norsk", "heard")}
            )
        )
        page.get_by_label("Hear Two tongues").click()
        self.sounds_at(page, 300.0)
        page.get_by_label("Hear På norsk").click()
        self.sounds_at(page, 900.0)
        expect(page.locator("#listen .chips")).to_contain_text("På norsk")
        self.view(page, "Receiver")
        expect(page.locator("[data-programme='pa_norsk']")).to_have_attribute(
            "aria-pressed", "true"
        )
        page.locator("[data-one-of] >> text=English").click()
        self.sounds_at(page, 300.0)
        page.click("button:has-text('As made')")
        self.sounds_at(page, 900.0)
        page.locator("[data-programme='']").click()
        self.sounds_at(page, 300.0)
        mix.refresh_from_db()
        self.assertTrue(document_of(mix).tracks[1].muted, "nothing of it changes the mix")

    def test_every_place_is_heard_and_measured(self) -> None:
        page = self.open()
        self.own_mix(page)
        self.view(page, "Translation")
        page.select_option("#places [name=strip]", label="English")
        page.get_by_label("Hear Telephone").click()
        self.sounds_at(page, 300.0)
        expect(page.locator("#listen .chips")).to_contain_text("Telephone")
        page.locator("#places form button:has-text('Measure')").click()
        expect(page.locator("#places svg.thirds")).to_have_count(11, timeout=WORK_MS)
        words = page.locator("#places tr:has-text('Stereo, as it is')")
        expect(words.locator(".verdict")).to_have_count(1)
        expect(page.locator("#places tr:has-text('Telephone')")).to_contain_text(
            re.compile(r"−?\d\.\d")
        )
        page.get_by_label("Hear Stereo, as it is").click()
        expect(page.locator("#listen .chips")).not_to_contain_text("Telephone")

    def test_the_platform_refuses_and_then_accepts(self) -> None:
        page = self.open()
        self.own_mix(page)
        page.click("nav >> text=Handover")
        self.settled(page)
        page.get_by_label("5.1 (0+5+0), the mix", exact=True).uncheck()
        page.get_by_label("Binaural, the mix", exact=True).uncheck()
        for level, verdict in (("as_it_is", "Refused"), ("gain", "Accepted")):
            page.select_option("[name=level]", level)
            page.fill("[name=label]", verdict)
            page.click("button:has-text('Hand over')")
            newest = page.locator("#renders section").first
            expect(newest.locator("h2")).to_have_text(verdict)
            expect(newest.locator("a:has-text('Package')")).to_be_visible(timeout=WORK_MS)
            self.view(page, "Platform")
            page.locator("[name=file]").select_option(index=0)
            page.click("button:has-text('Send')")
            receipt = page.locator(".receipt").first
            expect(receipt.locator("header")).to_contain_text(verdict, timeout=WORK_MS)
            if verdict == "Refused":
                expect(receipt).to_contain_text("LUFS ± 0.5 LU")
            self.view(page, "Formats")

    def test_listening_follows_a_recorder(self) -> None:
        page = self.open()
        self.own_mix(page)
        page.click("nav >> text=Intake")
        self.settled(page)
        page.click("button:has-text('Timecode')")
        page.fill("[name=frames]", "50")
        page.click("[data-runs]")
        place = (
            "import('/static/listen/player.js').then(({ player }) => player.position / player.rate)"
        )
        told = "document.querySelector('[data-recorder] output').textContent"

        def together() -> bool:
            """The recorder is two seconds ahead, so listening goes where it says it is."""
            hours, minutes, seconds, frames = map(int, page.evaluate(told).split(":"))
            clock = hours * 3600 + minutes * 60 + seconds + frames / 25
            at = float(page.evaluate(place))
            return at > 2.5 and bool(np.isclose(at, clock, atol=0.3))

        self.wait_for(together)
        page.click("[data-runs]")
        expect(page.locator("#listen .play")).to_have_text("Play")
