"""Handover in the browser: from choice to an opened package, what changed, positions and back."""

import tempfile
import zipfile
from pathlib import Path

from playwright.sync_api import Page, expect

from metaphon.core.adm.importing import definition_of
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.snapshots import document_of
from tests.browser.server import WORK_MS, BrowserTest, HeldBack
from tests.sounds import noise
from tests.web.base import recording


class Handover(BrowserTest):
    def own_mix(self, page: Page) -> Mix:
        """A mix with a gull and a boat, three seconds long."""
        page.goto(self.address)
        page.click("text=New mix")
        page.fill("[placeholder='Name of a new mix']", "Slipway")
        page.click("button:has-text('Make a mix')")
        self.settled(page)
        with tempfile.TemporaryDirectory() as folder:
            paths = [Path(folder) / name for name in ("gull.wav", "boat.wav")]
            for seed, path in enumerate(paths):
                path.write_bytes(recording(noise(1, 3.0, seed, 0.05)))
            page.set_input_files("input[type=file]", [str(path) for path in paths])
            expect(page.locator("#tracks .clip")).to_have_count(2, timeout=WORK_MS)
        return Mix.objects.filter(title="Slipway").latest("pk")

    def handed_over(self, page: Page, label: str) -> None:
        page.fill("[name=label]", label)
        page.click("button:has-text('Hand over')")
        newest = page.locator("#renders section").first
        expect(newest.locator("h2")).to_have_text(label)
        expect(newest.locator("h2")).to_be_in_viewport()
        expect(newest.locator("a:has-text('Package')")).to_be_visible(timeout=WORK_MS)

    def test_a_cell_pressed_while_another_is_on_its_way_stays_pressed(self) -> None:
        page = self.open()
        self.own_mix(page)
        page.click("nav >> text=Handover")
        self.settled(page)
        edit = HeldBack(page, "**/handover/edit")
        page.get_by_label("5.1 (0+5+0), the mix is made for it").uncheck()
        edit.came()
        stems = page.get_by_label("Stereo (0+2+0), stems of tracks")
        stems.check()
        with page.expect_response("**/handover/edit"):
            edit.let_go()
        adm = page.get_by_label("ADM (BW64), one file with all positions")
        adm.check()
        expect(page.locator("#count")).to_have_text("6 files of sound")
        page.reload()
        for cell in (stems, adm):
            expect(cell).to_be_checked()

    def test_a_format_that_is_not_listed_is_added_and_taken_away(self) -> None:
        page = self.open()
        mix = self.own_mix(page)
        page.click("nav >> text=Handover")
        page.select_option("[aria-label='Another format']", label="9.1.4 (4+9+0)")
        cell = page.get_by_label("9.1.4 (4+9+0), the mix", exact=True)
        expect(cell).to_be_checked()
        expect(page.locator("#count")).to_have_text("4 files of sound")
        self.assertNotIn("4+9+0", document_of(mix).targets)  # what is ticked is no edit
        made_for = page.get_by_label("9.1.4 (4+9+0), the mix is made for it")
        made_for.check()
        self.wait_for(lambda: "4+9+0" in document_of(Mix.objects.get(pk=mix.pk)).targets)
        page.keyboard.press("Control+z")
        expect(made_for).not_to_be_checked()
        cell.uncheck()
        page.reload()
        expect(cell).to_have_count(0)
        ticked = page.locator("#targets input[name=targets]:checked")
        while ticked.count():
            ticked.first.uncheck()
        expect(page.locator("#count")).to_have_text("0 files of sound")
        page.click("button:has-text('Hand over')")
        expect(page.locator("#messages")).to_contain_text("No target")

    def test_from_choice_to_opened_package_and_only_what_changed(self) -> None:
        page = self.open()
        mix = self.own_mix(page)
        page.click("nav >> text=Handover")
        self.settled(page)
        page.get_by_label("5.1 (0+5+0), the mix", exact=True).uncheck()
        expect(page.locator("#count")).to_have_text("2 files of sound")
        page.get_by_label("Stereo (0+2+0), stems of tracks").check()
        expect(page.locator("#count")).to_have_text("4 files of sound")
        page.get_by_label("ADM (BW64), one file with all positions").check()
        expect(page.locator("#count")).to_have_text("5 files of sound")
        page.select_option("[data-loudness]", label="Streaming, −16 LUFS")
        page.select_option("[name=level]", "limiter")
        page.fill("[name=preset]", "Web")
        page.click("button:has-text('Keep')")
        expect(page.locator(".preset")).to_contain_text("Web")
        expect(page.locator("[name=loudness_lufs]")).to_have_value("−16.0")
        self.handed_over(page, "First pass")
        newest = page.locator("#renders section").first
        expect(newest.locator(".verdict.pass")).to_have_count(
            4
        )  # two mixes, the positions, and all of them
        with page.expect_download() as download:
            newest.locator("a:has-text('Package')").click()
        with zipfile.ZipFile(download.value.path()) as package, tempfile.TemporaryDirectory() as to:
            self.assertIsNone(package.testzip())
            adm = next(name for name in package.namelist() if name.endswith("_adm.wav"))
            elements = definition_of(Path(package.extract(adm, to))).elements
            self.assertEqual([element.kind for element in elements], ["bed"])
            positions = package.read(adm)
        page.click("nav >> text=Flow")
        self.settled(page)
        page.click("a:has-text('Table')")
        page.get_by_label("Mute gull", exact=True).click()
        expect(page.get_by_label("Mute gull", exact=True)).to_have_attribute("aria-pressed", "true")
        page.click("nav >> text=Handover")
        self.settled(page)
        self.handed_over(page, "Without the gull")
        newest.locator("button:has-text('What changed')").click()
        expect(newest.locator(".edits")).to_contain_text("Muted gull")
        expect(newest.locator(".pair .null")).to_have_count(3)
        newest.locator("[data-hear^=difference]").first.click()
        level = (
            "import('/static/listen/player.js').then(({ player }) => "
            "player.step?.peak?.[0] ?? -120)"
        )
        self.wait_for(lambda: page.evaluate(level) > -60)
        page.keyboard.press("Escape")
        newest.locator("button:has-text('Bring in')").first.click()
        page.locator("[popover]:popover-open >> text=its originals at rest").click()
        expect(page.locator("#messages")).to_contain_text("is a track now. 2 of its originals rest")
        mix.refresh_from_db()
        self.assertEqual([t.resting for t in document_of(mix).tracks], [True, True, False])
        self.come_back(page, positions)

    def come_back(self, page: Page, positions: bytes) -> None:
        """The file with positions, opened as a mix of its own."""
        page.click("nav >> text=Intake")
        self.settled(page)
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "handed over.wav"
            path.write_bytes(positions)
            page.set_input_files("input[type=file]", str(path))
            page.click("button:has-text('Open as a mix')")
        page.wait_for_url("**/field/")
        expect(page.locator("#listen .play")).to_be_enabled()
        made = Mix.objects.get(title="handed over")
        self.assertEqual([t.name for t in document_of(made).tracks], ["Bed 5.1"])
