"""Two people in one mix: seen, heard along with, and told of remarks at once."""

from base64 import b64decode
from pathlib import Path

import numpy as np
from playwright.sync_api import Page, expect
from scipy.signal import correlate

from metaphon.core.edits.values import SetValue
from metaphon.web.mixes.journal import apply
from metaphon.web.mixes.models import Member, Mix
from metaphon.web.mixes.snapshots import document_of
from metaphon.web.together.models import Presence, Remark
from tests.browser.server import BrowserTest
from tests.web.base import make_user

RECORD = (Path(__file__).parent / "record.js").read_text().split("\n", 2)[2]
RATE_HZ = 48000
_PLAYER = "import('/static/listen/player.js').then(({ player }) => %s)"


class ByLink(BrowserTest):
    def test_who_has_a_link_hears_the_mix_as_it_is_until_it_is_taken_back(self) -> None:
        mix = Mix.objects.get(title="Quiet Water")
        page = self.open()
        page.goto(f"{self.address}/mix/{mix.pk}/handover/")
        page.click("text=Links to listen by")
        page.select_option("#shares [name=render]", "live")
        page.click("text=Make a link")
        link = page.locator("#shares input[readonly]").input_value()
        context = self.chromium.new_context(bypass_csp=True)  # so that it may be recorded
        self.addCleanup(context.close)
        guest = context.new_page()
        guest.on("pageerror", lambda error: self.faults.append(str(error)))
        guest.goto(link)
        guest.keyboard.press(" ")
        self.wait_for(lambda: guest.evaluate(_PLAYER % "Boolean(player.current)"))
        self.wait_for(lambda: self.heard(guest) > 10.0)
        owner = mix.members.get(role="owner").user
        strips = tuple(strip.id for strip in document_of(mix).strips)
        apply(mix, owner, SetValue(strips=strips, path="muted", value=True))
        self.wait_for(lambda: self.heard(guest) == 0.0)
        apply(mix, owner, SetValue(strips=strips, path="muted", value=False))
        guest.select_option(".on", "binaural")
        self.wait_for(lambda: self.heard(guest) > 10.0)
        # what is asked for beyond a target is not listened to
        guest.evaluate(
            _PLAYER % "player.set({ monitor_sources: { a: { source: 'render 1' }, b: {} } })"
        )
        expect(guest.locator(".said")).to_contain_text("Choose what to hear it on")
        page.locator(".share button").first.click()
        expect(guest.locator(".said")).to_contain_text("taken back")
        expect(guest.locator(".play")).to_have_text("Play")
        guest.reload()
        expect(guest.locator("main")).to_contain_text("This link is over")

    def heard(self, page: Page) -> float:
        """The level of a part of a second, in steps of 16 bits."""
        _, text = page.evaluate(f"({RECORD.rstrip().rstrip(';')})(0.3)")
        sound = np.frombuffer(b64decode(text), np.int16).astype(np.float64)
        return float(np.sqrt(np.mean(sound**2)))


class Together(BrowserTest):
    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.mix = Mix.objects.get(title="Quiet Water")
        bo = make_user("bo")
        bo.first_name = "Bo of the quay"
        bo.save()
        Member.objects.create(mix=cls.mix, user=bo, role="listener")

    def setUp(self) -> None:
        super().setUp()
        # so that a test may record what is played
        self.one = self.at(self.open(bypass_csp=True), "handover/")
        self.other = self.at(self.open("bo", bypass_csp=True), "handover/")

    def at(self, page: Page, place: str) -> Page:
        page.goto(f"{self.address}/mix/{self.mix.pk}/{place}")
        page.wait_for_selector("#listen .play:not([disabled])")
        return page

    def test_seen_where_they_are_and_gone_when_they_are_gone(self) -> None:
        chip = self.one.locator("#others .other")
        expect(chip).to_have_attribute("title", "Bo of the quay: Handover. Press to listen along")
        self.other.click("nav >> text=Flow")
        expect(chip).to_have_attribute("title", "Bo of the quay: Flow. Press to listen along")
        self.other.close()
        expect(chip).to_have_count(0)
        self.wait_for(lambda: Presence.objects.count() == 1)

    def test_a_remark_of_one_comes_to_the_other(self) -> None:
        self.one.keyboard.press("r")
        expect(self.one.locator("#remarks-list")).to_be_visible()
        self.other.locator("#listen .clock input").fill("00:12.5")
        self.other.keyboard.press("Enter")
        self.other.keyboard.press("r")
        self.other.locator("#new-remark textarea").fill("Too near")
        self.other.click("#new-remark button")
        expect(self.one.locator("article.remark")).to_have_count(1)
        row = Remark.objects.get()
        self.assertEqual((row.text, row.start_s, row.user.username), ("Too near", 12.5, "bo"))
        expect(self.one.locator("#remarks-button")).to_contain_text("1")
        remark = self.one.locator("article.remark")
        answer = remark.locator("input")
        answer.fill("Half of an answ")
        self.other.locator("#new-remark textarea").fill("And louder")
        self.other.click("#new-remark button")
        expect(self.one.locator("#messages")).to_be_empty()
        self.one.wait_for_timeout(700)
        expect(answer.first).to_have_value("Half of an answ")  # not drawn over
        answer.first.press("Enter")
        expect(self.other.locator(".answer")).to_contain_text("Half of an answ")
        self.one.locator("article.remark", has_text="Too near").locator("[data-jump]").click()
        expect(self.one.locator("#listen .clock input")).to_have_value("00:12.5")
        self.one.locator("article.remark", has_text="Too near").get_by_text("Resolve").click()
        expect(self.other.locator("article.remark")).to_have_count(1)

    def test_they_hear_the_same_at_the_same_time(self) -> None:
        self.one.select_option("[data-monitor-source]", index=1)
        self.one.click("#listen .play")
        self.other.locator("#others .other").click()
        playing = _PLAYER % "player.playing && Boolean(player.current)"
        self.wait_for(lambda: self.other.evaluate(playing))
        target = _PLAYER % "player.state.monitor_sources.a.target"
        self.assertEqual(self.other.evaluate(target), self.one.evaluate(target))
        self.wait_for(lambda: abs(self.apart_s()) < 0.05, 40)
        self.one.click("#listen .play")
        self.wait_for(lambda: not self.other.evaluate(_PLAYER % "player.playing"))
        self.other.locator("#others .other").click()  # alone again
        self.one.click("#listen .play")
        self.other.wait_for_timeout(1500)
        self.assertFalse(self.other.evaluate(_PLAYER % "player.playing"))

    def apart_s(self) -> float:
        """How much later the other plays the same samples, by the clock of the machine."""
        begun = f"window.recorded = ({RECORD.rstrip().rstrip(';')})(1.2); 0"
        for page in (self.one, self.other):
            page.evaluate(begun)
        (one_s, one), (other_s, other) = (
            page.evaluate("window.recorded") for page in (self.one, self.other)
        )
        first, second = (
            np.frombuffer(b64decode(text), np.int16).astype(np.float64) for text in (one, other)
        )
        found = correlate(second, first)
        lag = int(np.argmax(found)) - (len(first) - 1)
        overlap = len(first) - abs(lag)
        alike = found.max() / np.sqrt(np.sum(first**2) * np.sum(second**2) + 1e-12)
        if alike < 0.3 * overlap / len(first):
            return float("inf")  # one of them was jumping
        return other_s - one_s + lag / RATE_HZ
