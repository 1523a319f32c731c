"""The whole job in the browser, against the real server with a real worker."""

import json
import signal
import tempfile
from pathlib import Path

import numpy as np
import soundfile
from playwright.sync_api import Page, expect

from metaphon.web.mixes.models import Mix
from tests.browser.server import WORK_MS, BrowserTest, end
from tests.sounds import RATE_HZ, noise
from tests.web.base import named


class WholePath(BrowserTest):
    def lamp(self, page: Page, workspace: str = "") -> Mix:
        mix = Mix.objects.get(title="The Lamp at Skerrow")
        page.goto(f"{self.address}/mix/{mix.pk}/{workspace}")
        return mix

    def table(self, page: Page) -> None:
        page.click("nav >> text=Flow")
        self.settled(page)
        page.click("a:has-text('Table')")
        page.wait_for_selector("#flowtable")

    def render(self, page: Page) -> None:
        page.click("nav >> text=Handover")
        page.click("form >> button:has-text('Hand over')")
        page.wait_for_selector("#renders section:first-child progress", timeout=10000)
        page.wait_for_selector("#renders section:first-child [data-hear]", timeout=WORK_MS)

    def test_the_demo_from_sign_in_to_download(self) -> None:
        page = self.page()
        page.goto(self.address)
        page.fill("[name=username]", "demo")
        page.fill("[name=password]", "harbour-lamp")
        page.click("button:has-text('Sign in')")
        page.click("text=The Lamp at Skerrow")
        mix = Mix.objects.get(title="The Lamp at Skerrow")
        gull, horn = named(mix, "Gull"), named(mix, "Ship's horn")

        self.table(page)

        def typed(label: str, text: str) -> None:
            with page.expect_response(lambda r: r.request.method == "POST"):
                page.get_by_label(label, exact=True).fill(text)
                page.keyboard.press("Enter")

        typed("Gull gain", "-20,5 dB")
        self.assertEqual(gull.gain_db, -20.5)
        typed("Ship's horn azimuth", "-60")
        typed("Ship's horn to Cave", "-3")
        self.assertEqual(
            (horn.placement.azimuth_deg, {send.bus: send.level_db for send in horn.sends}["cave"]),
            (-60.0, -3.0),
        )
        typed("Gull gain", "99")
        expect(page.locator("#messages")).to_contain_text("Gain may be -120 to 12 dB")
        self.assertEqual(gull.gain_db, -20.5)
        page.click("button:has-text('History')")
        expect(page.locator("#history-list")).to_contain_text("Ship's horn to Cave: level -3 dB")
        page.keyboard.press("Escape")
        self.render(page)
        expect(page.locator("#renders section:first-child")).to_contain_text(
            "Hand-bells is heard twice"
        )
        page.locator("[data-hear]").first.click()
        heard = "import('/static/listen/player.js').then(({ player }) => player.position / 48000)"
        self.wait_for(lambda: page.evaluate(heard) > 0.5)
        page.click("nav >> text=Flow")
        page.wait_for_selector("#flowtable, #map")
        before = page.evaluate(heard)
        self.wait_for(lambda: page.evaluate(heard) > before + 0.3)
        page.keyboard.press("Escape")
        page.click("nav >> text=Handover")
        for number, channels in enumerate((2, 6, 2)):
            with page.expect_download() as download:
                page.locator("#renders section:first-child a:has-text('WAV')").nth(number).click()
            info = soundfile.info(str(download.value.path()))
            self.assertEqual(
                (info.channels, info.samplerate, info.subtype), (channels, RATE_HZ, "PCM_24")
            )
        with page.expect_popup() as opened:
            page.locator("#renders section:first-child a:has-text('Report')").click()
        paper = opened.value
        expect(paper.locator("main")).to_contain_text("Hand-bells is heard twice")
        with paper.expect_download() as download:
            paper.click("a:has-text('JSON')")
        self.assertEqual(len(json.loads(Path(download.value.path()).read_text())["files"]), 3)

    def test_an_own_mix_from_several_files(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            voice, bell = noise(1, 1.0)[0], noise(2, 1.0, 2)
            paths = [
                # one is called by a word that a menu has too
                Path(folder) / name
                for name in ("voice.wav", "bell.flac", "object.aiff", "text.wav")
            ]
            for path, sound in zip(paths, (voice, bell.T, voice), strict=False):
                soundfile.write(str(path), sound, RATE_HZ, subtype="PCM_24")
            paths[3].write_text("not sound")
            page = self.open()
            page.goto(self.address)
            page.click("text=New mix")
            page.fill("[placeholder='Name of a new mix']", "Breakwater")
            page.click("button:has-text('Make a mix')")
            page.wait_for_url("**/intake/")  # and its scripts
            page.set_input_files("input[type=file]", [str(p) for p in paths])
            expect(page.locator("#arrivals")).to_contain_text(
                "text.wav is not an audio file that can be read"
            )
            expect(page.locator("#tracks .clip")).to_have_count(3, timeout=WORK_MS)
        self.table(page)
        page.get_by_label("object is placed as").select_option("object")
        azimuth = page.get_by_label("object azimuth")
        azimuth.focus()  # the row may yet be drawn anew; focus and number are kept
        with page.expect_response(lambda r: "azimuth" in (r.request.post_data or "")):
            page.keyboard.press("Shift+ArrowUp")
        expect(azimuth).to_have_value("5.0")
        expect(azimuth).to_be_focused()
        mix = Mix.objects.get(title="Breakwater")
        drum = named(mix, "object")
        self.assertEqual((drum.placement.mode, drum.placement.azimuth_deg), ("object", 5.0))
        with page.expect_response(lambda r: "azimuth" in (r.request.post_data or "")):
            page.get_by_label("object azimuth").dblclick()
        self.assertEqual(drum.placement.azimuth_deg, 0.0)
        page.click("body", position={"x": 640, "y": 700})
        with page.expect_response(lambda r: "undo" in r.url):
            page.keyboard.press("Control+z")
        self.assertEqual(drum.placement.azimuth_deg, 5.0)
        page.get_by_label("Mute voice").click()
        expect(page.get_by_label("Mute voice")).to_have_attribute("aria-pressed", "true")
        self.render(page)
        stereo = mix.renders.first().files.get(target="0+2+0")
        sound, _ = soundfile.read(stereo.file.path, always_2d=True)
        self.assertGreater(np.abs(sound).max(), 0.05)

    def test_a_killed_worker_and_a_cancelled_render(self) -> None:
        page = self.open()
        mix = self.lamp(page, "handover/")
        page.click("form >> button:has-text('Hand over')")
        self.wait_for(lambda: mix.renders.filter(status="running").exists())
        end(self.served.worker, signal.SIGKILL)
        self.served.begin_worker()
        row = mix.renders.first()
        self.assertEqual(row.files.count(), 0)
        self.wait_for(lambda: mix.renders.get(pk=row.pk).status == "done", WORK_MS / 1000)
        page.reload()
        page.click("#renders section:first-child button:has-text('Again')")
        self.wait_for(lambda: mix.renders.filter(status="done").count() == 2, WORK_MS / 1000)
        sums = [
            sorted(file.figures["sha256"] for file in one.files.filter(kind="audio"))
            for one in mix.renders.all()
        ]
        self.assertEqual(sums[0], sums[1])
        page.reload()
        page.click("form >> button:has-text('Hand over')")
        page.click("button:has-text('Cancel')")
        expect(page.locator("#renders section:first-child h2")).to_have_text(
            "Cancelled", timeout=30000
        )
        self.assertEqual(mix.renders.first().files.count(), 0)
