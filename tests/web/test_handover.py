"""Handover through the server: the matrix, presets, packages, what changed, results brought in."""

import hashlib
import io
import zipfile
from pathlib import Path
from typing import Any

import numpy as np
import soundfile

from metaphon.core.adm.importing import definition_of
from metaphon.core.engine.plan import compile
from metaphon.core.engine.render import render
from metaphon.core.errors import InputError
from metaphon.web.jobs.models import Render
from metaphon.web.jobs.tasks import render_mix
from metaphon.web.listen.models import Reference
from metaphon.web.listen.monitor_source import document_heard
from metaphon.web.mixes.models import AudioFile, Mix
from metaphon.web.mixes.snapshots import document_of
from tests.sounds import RATE_HZ, noise, outputs_of
from tests.web.base import WebTest

PLAIN = {"bits": "32f", "level": "as_it_is"}


class HandoverTest(WebTest):
    def setUp(self) -> None:
        super().setUp()
        self.gull = self.bring_in("gull.wav", noise(1, 1.0, 1))
        self.boat = self.bring_in("boat.wav", noise(1, 1.0, 2))
        for name in ("0+5+0", "binaural"):
            self.edit("handover", kind="remove_target", name=name)

    def hand_over(self, **form: Any) -> Render:
        answer = self.post("handover:start", **{**PLAIN, **form})
        self.assertEqual(answer.status_code, 200, answer.get("HX-Trigger"))
        row = self.mix.renders.first()
        assert row is not None
        render_mix(render_id=row.pk)
        row.refresh_from_db()
        self.assertEqual(row.status, "done", row.message)
        return row

    def whole(self, response: Any) -> bytes:
        return b"".join(response) if response.streaming else response.content

    def sound(self, file: Any) -> np.ndarray:
        return soundfile.read(file.file.path, always_2d=True)[0].T


class Asking(HandoverTest):
    def test_what_is_chosen_is_kept_and_counted(self) -> None:
        before = self.mix_revision()
        stems = ["tracks 0+2+0", "tracks own"]
        answer = self.post("handover:keep", targets=["0+2+0"], stems=stems, lead_s="1,5 s")
        self.assertContains(answer, "5 files of sound")
        page = self.client.get(self.url("handover:show"))
        self.assertContains(page, 'value="tracks own"\n')
        self.assertContains(page, 'value="1.5"')
        self.assertContains(page, "5 files of sound")
        self.assertEqual(self.mix_revision(), before)  # what is ticked is no edit
        self.keep("0+2+0", "4+7+0", files="2 files")
        self.keep(files="0 files")
        self.assertIn("No target is chosen", self.said(self.post("handover:start", targets=())))
        self.assertEqual(document_of(self.mix).targets, ("0+2+0",))
        self.keep(further="9+10+3", files="1 file ")
        page = self.client.get(self.url("handover:show"))
        self.assertEqual(page.context["asked"].targets, ("9+10+3",))

    def keep(self, *targets: str, files: str, **more: str) -> None:
        self.assertContains(self.post("handover:keep", targets=targets, **more), files)

    def mix_revision(self) -> int:
        self.mix.refresh_from_db()
        return self.mix.revision

    def test_presets_bring_targets_and_settings_back(self) -> None:
        self.assertIn("needs a name", self.said(self.post("handover:preset", preset=" ")))
        chosen = {"targets": ["0+2+0"], "stems": ["buses 0+2+0"]}
        self.post("handover:preset", preset="Museum", bits="16", **chosen)
        self.post("handover:keep", targets=["4+7+0"], bits="24")
        page = self.client.get(self.url("handover:show"))
        self.assertContains(page, "Museum")
        number = page.context["presets"][0].pk
        self.post("handover:preset", take=str(number))
        page = self.client.get(self.url("handover:show"))
        self.assertEqual(page.context["asked"].bits, "16")
        self.assertEqual(page.context["asked"].stems, {"buses": ("0+2+0",)})
        self.assertEqual(page.context["asked"].targets, ("0+2+0",))
        self.post("handover:preset", forget=str(number))
        self.assertIn("no longer there", self.said(self.post("handover:preset", take=str(number))))

    def test_nonsense_is_refused_in_a_sentence(self) -> None:
        for form, words in (
            ({"stems": ["placements own"]}, "What is placed alike has no width"),
            ({"name": "x"}, "A name needs"),
            ({"loudness_lufs": "loud"}, "Loudness is a number, not"),
            ({"end_s": "0.5", "start_s": "0.7"}, "It ends before it begins"),
            ({"stems": ["magic 0+2+0"]}, "Stems"),
            ({"head": "etc/passwd"}, "no longer among yours"),
        ):
            self.assertIn(words, self.said(self.post("handover:start", **form)))


class Files(HandoverTest):
    def test_stems_add_up_in_the_package_and_its_checksums_hold(self) -> None:
        self.edit("flow", kind="rename", strip="gull", name="Herring gull")
        row = self.hand_over(stems=["tracks 0+2+0"], label="First pass")
        response = self.client.get(self.url("handover:package", row.pk))
        self.assertIn("Pier_First_pass.zip", response["Content-Disposition"])
        package = zipfile.ZipFile(io.BytesIO(self.whole(response)))
        self.assertIsNone(package.testzip())
        names = package.namelist()
        self.assertEqual(len(names), 6)
        sums = dict(
            reversed(line.split("  "))
            for line in package.read("SHA256SUMS").decode().split("\n")[:-1]
        )
        for name, digest in sums.items():
            self.assertEqual(hashlib.sha256(package.read(name)).hexdigest(), digest)
        whole, gull, boat = (self.sound(file) for file in row.files.filter(kind="audio"))
        np.testing.assert_allclose(gull + boat, whole, atol=1e-6)
        paper = self.client.get(self.url("handover:report", row.pk))
        self.assertContains(paper, "The stems of tracks in Stereo (0+2+0) add up to the mix within")
        self.assertContains(paper, sums["Pier_0+2+0.wav"])
        self.assertContains(self.client.get(self.url("handover:show")), "<td>Herring gull</td>")

    def test_a_verdict_is_given_on_mixes(self) -> None:
        row = self.hand_over(level="gain", loudness_lufs="-20", bits="24")
        verdict = row.files.get(target="0+2+0").figures["verdict"]
        self.assertEqual(verdict["word"], "pass")
        row = self.hand_over(loudness_lufs="-30")
        verdict = row.files.get(target="0+2+0").figures["verdict"]
        self.assertEqual(verdict["word"], "fail")
        self.assertIn("LU too", verdict["said"])
        self.assertContains(self.client.get(self.url("handover:show")), 'aria-label="Fail"')

    def test_an_old_state_is_rendered_again_exactly(self) -> None:
        row = self.hand_over()
        before = row.files.get(kind="audio").figures["sha256"]
        self.set(self.gull, "gain_db", -20)
        self.post("handover:retry", row.pk, exactly="")
        again = self.mix.renders.first()
        render_mix(render_id=again.pk)
        self.assertEqual(again.files.get(kind="audio").figures["sha256"], before)
        self.post("handover:retry", row.pk)
        now = self.mix.renders.first()
        render_mix(render_id=now.pk)
        self.assertNotEqual(now.files.get(kind="audio").figures["sha256"], before)


class Changes(HandoverTest):
    def test_only_what_changed_is_heard_drawn_and_told(self) -> None:
        first = self.hand_over()
        self.set(self.gull, "muted", True)
        second = self.hand_over(lead_s="0.5")
        page = self.fragment("handover:changes", second.pk, first.pk)
        self.assertContains(page, "Muted gull")
        new, old = (row.files.get(kind="audio") for row in (second, first))
        self.assertContains(page, f'data-hear="difference {new.pk} {old.pk}"')
        self.assertContains(self.fragment("handover:null", new.pk, old.pk), "dBFS")
        heard = document_heard(self.mix, f"difference {new.pk} {old.pk}")
        sound = self.rendered(heard, "0+2+0")
        gull = self.sound(old) - np.roll(self.sound(new), -RATE_HZ // 2, axis=1)[:, :RATE_HZ]
        at = RATE_HZ // 2
        found = np.abs(sound[:, at : at + RATE_HZ])
        np.testing.assert_allclose(found, np.abs(gull), atol=2e-4)

    def test_the_same_is_told_to_be_the_same(self) -> None:
        first, second = self.hand_over(), self.hand_over()
        page = self.fragment("handover:changes", second.pk, first.pk)
        self.assertContains(page, "No edit lies between them")
        new, old = (row.files.get(kind="audio") for row in (second, first))
        null = self.fragment("handover:null", new.pk, old.pk)
        self.assertContains(null, "the same to the last sample")

    def rendered(self, document: Any, target: str) -> np.ndarray:
        blocks = render(compile(document), outputs_of(target))
        return np.concatenate([block[0] for block in blocks], axis=1)


class BroughtIn(HandoverTest):
    def test_a_result_comes_back_to_its_place_and_its_originals_rest(self) -> None:
        row = self.hand_over(stems=["tracks own"], start_s="0.25", lead_s="0.5")
        stem = row.files.get(stem="gull_dry")
        self.post("handover:bring", stem.pk, rest="")
        self.mix.refresh_from_db()
        *_, track = document_of(self.mix).tracks
        self.assertEqual((track.clips[0].start_s, track.clips[0].in_s), (0.0, 0.25))
        self.assertEqual(track.placement.layout, "0+1+0")
        resting = [t.name for t in document_of(self.mix).tracks if t.resting]
        self.assertEqual(resting, ["gull"])
        self.post("undo")
        self.mix.refresh_from_db()
        self.assertEqual(len(document_of(self.mix).tracks), 2)

    def test_as_a_reference(self) -> None:
        row = self.hand_over()
        self.post("listen:refer", row.files.get(kind="audio").pk)
        self.assertEqual(Reference.objects.get(mix=self.mix).audio.channels, 2)


class Positions(HandoverTest):
    def test_a_file_with_positions_goes_out_and_comes_in_as_a_mix(self) -> None:
        self.edit("flow", kind="place", strips=[self.gull.ref], mode="object")
        self.set(self.gull, "placement/azimuth_deg", 60, workspace="field")
        row = self.hand_over(adm="on")
        file = row.files.get(target="adm")
        elements = definition_of(Path(file.file.path)).elements
        self.assertEqual([element.kind for element in elements], ["bed", "object"])
        page = self.client.get(self.url("handover:show"))
        self.assertContains(page, "ADM (BW64)")
        self.assertIn("no longer there", self.said_of(f"render {file.pk}"))
        arrival = self.upload("scene.wav", Path(file.file.path).read_bytes())
        self.assertEqual(arrival.status, "done", arrival.message)
        self.assertContains(self.client.get(self.url("intake:show")), "Open as a mix")
        audio = AudioFile.objects.get(name="scene.wav")
        answer = self.post("intake:open_definition", audio.pk)
        made = Mix.objects.exclude(pk=self.mix.pk).get()
        self.assertEqual(answer["HX-Redirect"], f"/mix/{made.pk}/field/")
        document = document_of(made)
        self.assertEqual([t.placement.mode for t in document.tracks], ["bed", "object"])
        self.assertEqual(document.tracks[1].placement.azimuth_deg, 60.0)
        plain = AudioFile.objects.get(name="boat.wav")
        refused = self.post("intake:open_definition", plain.pk)
        self.assertIn("no audio definition", self.said(refused))

    def said_of(self, source: str) -> str:
        try:
            document_heard(self.mix, source)
        except InputError as error:
            return str(error)
        return ""
