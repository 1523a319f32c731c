"""A working day with a session of one's own: forty recordings, two people, all workspaces.

What comes out is held against closed forms: every recording is a tone of its own, so that its level
in a file can be read from a spectrum.
"""

import tempfile
import zipfile
from pathlib import Path

import numpy as np
import soundfile
from django.contrib.auth import get_user_model
from playwright.sync_api import Page, expect

from metaphon.core.adm.importing import definition_of
from metaphon.web.mixes.models import Member, Mix
from metaphon.web.mixes.snapshots import document_of
from tests.browser.server import WORK_MS, BrowserTest
from tests.runner import long_test
from tests.sounds import RATE_HZ, noise
from tests.web.base import recording

_SECONDS = 4.0
_LEVEL_DB = -36.0
_MONO = 30
_LATE = 34  # samples


def tone_hz(number: int) -> float:
    """The tone of a track: a whole number of turns in the span that is looked at."""
    return 200.0 + 50.0 * number


def tone(number: int) -> np.ndarray:
    at = np.arange(round(_SECONDS * RATE_HZ)) / RATE_HZ
    return np.asarray(10 ** (_LEVEL_DB / 20) * np.sin(2 * np.pi * tone_hz(number) * at))[None]


def level_db(sound: np.ndarray, hertz: float) -> float:
    """The level of a tone in a channel over two seconds from the first one on, in dBFS."""
    part = sound[RATE_HZ : 3 * RATE_HZ]
    turn = np.exp(-2j * np.pi * hertz * np.arange(len(part)) / RATE_HZ)
    return float(20 * np.log10(2 * np.abs(np.mean(part * turn)) + 1e-12))


class Day(BrowserTest):
    def files(self) -> dict[str, bytes]:
        """Forty recordings: tones, a pair, a bed, a scene, and one sound by two microphones."""
        found = {f"Voice {n:02d}.wav": recording(tone(n)) for n in range(_MONO)}
        bell = noise(1, _SECONDS, 7, 0.02)
        late = -np.pad(bell, ((0, 0), (_LATE, 0)))[:, : bell.shape[1]]
        found |= {"Bell near.wav": recording(bell), "Bell far.wav": recording(late)}
        quiet = 10 ** (-50 / 20)
        found["Rain.wav"] = recording(noise(6, _SECONDS, 8, quiet))
        found["Sea.wav"] = recording(noise(4, _SECONDS, 9, quiet))
        for n in range(6):
            found[f"Pair {n}.wav"] = recording(noise(2, _SECONDS, 20 + n, quiet))
        assert len(found) == 40
        return found

    def go(self, page: Page, place: str) -> None:
        page.goto(f"{self.address}/mix/{self.mix.pk}/{place}")
        self.settled(page)

    def typed(self, page: Page, label: str, text: str) -> None:
        field = page.get_by_label(label, exact=True).first
        with page.expect_response(lambda r: r.request.method == "POST"):
            field.fill(text)
            field.press("Enter")
        self.settled(page)

    @long_test
    def test_from_forty_recordings_to_what_the_client_says(self) -> None:
        page = self.open()
        self.bring_in(page)
        self.put_in_order(page)
        self.align(page)
        self.change_together(page)
        with tempfile.TemporaryDirectory() as folder:
            self.hand_over(page)
            self.analyse(self.package(page, Path(folder)))
        self.ask_the_client(page)

    def bring_in(self, page: Page) -> None:
        page.goto(self.address)
        page.click("text=New mix")
        page.fill("[placeholder='Name of a new mix']", "Day")
        page.click("button:has-text('Make a mix')")
        self.settled(page)
        self.mix = Mix.objects.get(title="Day")
        with tempfile.TemporaryDirectory() as folder:
            paths = []
            for name, content in self.files().items():
                paths.append(Path(folder) / name)
                paths[-1].write_bytes(content)
            page.set_input_files("input[type=file]", [str(path) for path in paths])
            expect(page.locator("#tracks .clip")).to_have_count(40, timeout=WORK_MS)
        held = {track.name: track for track in document_of(Mix.objects.get(pk=self.mix.pk)).tracks}
        modes = {name: held[name].placement.mode for name in ("Voice 00", "Rain", "Sea", "Pair 0")}
        self.assertEqual(modes, {"Voice 00": "bed", "Rain": "bed", "Sea": "scene", "Pair 0": "bed"})

    def put_in_order(self, page: Page) -> None:
        self.go(page, "flow/?view=table")
        page.fill("#find-rows", "voice 0")
        page.check("#choose-all")
        page.fill("#chosen input[name=name]", "Leads")
        page.click("#chosen form button")
        expect(page.locator(".section-head")).to_contain_text("Leads")
        page.click("[data-none]")
        page.uncheck("#in-groups")
        self.typed(page, "Voice 00 gain", "-6")
        self.typed(page, "Voice 01 azimuth", "30")
        self.typed(page, "Voice 02 azimuth", "-30")
        page.get_by_label("Mute Voice 03", exact=True).click()
        self.settled(page)
        for name in ("Voice 04", "Voice 05"):
            page.check(f"[aria-label='Choose {name}']")
        page.click("#chosen button:text-is('New bus')")
        expect(page.locator("#panel h2").first).to_have_text("Bus")
        self.settled(page)
        page.fill("#find-rows", "")
        self.typed(page, "Bus gain", "-3")

    def align(self, page: Page) -> None:
        self.go(page, "coherence/")
        page.get_by_label("This recording", exact=True).select_option(label="Bell near")
        self.settled(page)
        page.get_by_label("The other recording", exact=True).select_option(label="Bell far")
        self.settled(page)
        expect(page.locator(".pair button.main")).to_contain_text("Bell far", timeout=WORK_MS)
        page.click(".pair button.main")
        self.settled(page)

    def change_together(self, page: Page) -> None:
        get_user_model().objects.create_user("bo", password="a lamp beyond the pier")
        bo = get_user_model().objects.get(username="bo")
        Member.objects.create(mix=self.mix, user=bo, role="editor")
        other = self.open("bo")
        self.go(page, "flow/?view=table")
        self.go(other, "flow/?view=table")
        self.typed(other, "Voice 26 gain", "-12")
        gain = page.get_by_label("Voice 26 gain", exact=True).first
        expect(gain).to_have_value("\u221212.0")
        other.context.close()

    def hand_over(self, page: Page) -> None:
        self.go(page, "handover/")
        page.get_by_label("Stereo (0+2+0), stems of tracks").check()
        page.get_by_label("ADM (BW64), one file with all positions").check()
        page.select_option("[name=level]", "as_it_is")
        page.select_option("[name=bits]", "24")
        self.settled(page)
        page.click("button:has-text('Hand over')")
        page.wait_for_selector("#renders section:first-child [data-hear]", timeout=WORK_MS)

    def package(self, page: Page, folder: Path) -> dict[str, Path]:
        with page.expect_download(timeout=WORK_MS) as download:
            page.locator("#renders section").first.locator("a:has-text('Package')").click()
        with zipfile.ZipFile(download.value.path()) as package:
            self.assertIsNone(package.testzip())
            package.extractall(folder)
        return {path.name: path for path in folder.rglob("*.wav")}

    def analyse(self, files: dict[str, Path]) -> None:
        """By closed form: constant power in the middle, the whole of it in one loudspeaker."""
        [stereo] = [
            path
            for name, path in files.items()
            if name.endswith("_0+2+0.wav") and "stem" not in name
        ]
        self.assertIn(f"_r{Mix.objects.get(pk=self.mix.pk).revision}_", stereo.name)
        whole = soundfile.read(stereo, always_2d=True)[0].T
        middle = _LEVEL_DB - 10 * np.log10(2.0)
        for number, left, right in (
            (0, middle - 6.0, middle - 6.0),
            (1, _LEVEL_DB, -200.0),
            (2, -200.0, _LEVEL_DB),
            (3, -200.0, -200.0),
            (4, middle - 3.0, middle - 3.0),
            (26, middle - 12.0, middle - 12.0),
            (20, middle, middle),
        ):
            for channel, wanted in ((0, left), (1, right)):
                found = level_db(whole[channel], tone_hz(number))
                if wanted < -100.0:
                    self.assertLess(found, -65.0, (number, channel))  # what noise is left
                else:
                    self.assertAlmostEqual(found, wanted, delta=0.3, msg=f"{number} {channel}")
        stems = [path for name, path in files.items() if "_stem_" in name]
        self.assertEqual(len(stems), 39)  # one is muted
        total = sum(soundfile.read(path, always_2d=True)[0].T for path in stems)
        off = 20 * np.log10(np.sqrt(np.mean((total - whole) ** 2) / np.mean(whole**2)))
        self.assertLess(off, -80.0)  # 39 files of 24 bit, each rounded by itself
        near, far = (
            soundfile.read(path, always_2d=True)[0].T[0]
            for word in ("bell_near", "bell_far")
            for path in stems
            if word in path.name
        )
        left_over = np.std(near - far) / np.std(near)
        self.assertLess(20 * np.log10(left_over), -30.0)  # the mend has made them one
        [adm] = [path for name, path in files.items() if name.endswith("_adm.wav")]
        kinds = {element.kind for element in definition_of(adm).elements}
        self.assertEqual(kinds, {"bed", "scene"})

    def ask_the_client(self, page: Page) -> None:
        page.click("text=Links to listen by")
        box = page.locator("#shares")
        box.locator("[name=name]").fill("Museum")
        box.locator("[name=remarks]").check()
        box.locator("[name=downloads]").check()
        box.locator("button:has-text('Make a link')").click()
        address = box.get_by_label("The link").input_value()
        client = self.page()
        client.goto(address)
        client.fill("[name=text]", "Voice 02 softer, please")
        client.fill("[name=start_s]", "1.5")
        client.click("button:has-text('Send')")
        expect(client.locator(".guest-remark")).to_contain_text("softer, please")
        with client.expect_download() as download:
            client.locator(".kept a").first.click()
        self.assertTrue(download.value.suggested_filename.startswith("Day_r"))
        page.keyboard.press("Escape")
        page.click("#remarks-button")
        expect(page.locator("#remarks-list")).to_contain_text("Museum, by a link")
