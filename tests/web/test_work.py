"""Intake, flow, handover and listening through the server, without a browser."""

import io
import json
import tempfile
from pathlib import Path
from typing import Any
from unittest import mock
from unittest.mock import patch

import numpy as np
import soundfile

from metaphon.core.errors import MachineBusy
from metaphon.core.measure.timecode import RATES, as_sound, read_timecode
from metaphon.core.spatial.head import SHIPPED, load_head
from metaphon.web.handover.strip_chart import correlation_path
from metaphon.web.intake.models import Arrival
from metaphon.web.intake.tasks import check_arrival
from metaphon.web.jobs import parts, rendering
from metaphon.web.jobs.models import Render
from metaphon.web.jobs.tasks import render_mix
from metaphon.web.listen.monitor_source import document_heard
from metaphon.web.mixes.models import AudioFile
from metaphon.web.mixes.recordings import store
from metaphon.web.mixes.snapshots import document_of
from metaphon.web.storage import stored
from tests.sounds import RATE_HZ, noise
from tests.web.base import TUS, WebTest, make_user, recording, stored_files


class Intake(WebTest):
    def test_each_width_is_placed_as_it_suggests(self) -> None:
        for channels, mode, kind in (
            (1, "bed", "Mono (0+1+0)"),
            (2, "bed", "Stereo (0+2+0)"),
            (3, "bed", "LCR (0+3+0)"),
            (4, "scene", "Ambisonic 1"),
            (6, "bed", "5.1 (0+5+0)"),
            (16, "scene", "Ambisonic 3"),
            (7, "none", "7 channels"),
        ):
            arrival = self.upload(f"w{channels}.wav", recording(noise(channels, 0.1)))
            self.assertEqual(arrival.status, "done", arrival.message)
            self.assertEqual(self.named(f"w{channels}").placement.mode, mode)
            self.assertContains(self.client.get(self.url("intake:show")), kind)
        self.assertContains(self.client.get(self.url("flow:show") + "?view=table"), "w16")

    def test_names(self) -> None:
        for name, track in (
            ("gull.wav", "gull"),
            ("gull.wav", "gull 2"),
            ("../../etc/gull.wav", "gull 3"),
            ("\U0001f30a sea.wav", "\U0001f30a sea"),
            (".wav", ".wav"),
            ("programme.wav", "programme"),
        ):
            self.assertEqual(self.upload(name, recording(noise(1, 0.1))).track, track)
        refs = [strip.id for strip in self.document().strips]
        self.assertEqual(refs, ["gull", "gull_2", "gull_3", "sea", "wav", "programme_2"])
        for audio in AudioFile.objects.all():
            self.assertRegex(audio.file.name, r"^mixes/\d+/recordings/[0-9a-f]{32}\.wav$")

    def test_refusals_leave_nothing_behind(self) -> None:
        whole = recording(noise(2, 0.5))
        before = stored_files()
        for name, content, words in (
            ("text.wav", b"This is text.", "not an audio file"),
            ("cut.wav", whole[: len(whole) // 2], "cut short"),
            ("none.wav", recording(np.zeros((1, 0))), "0 samples"),
            ("wide.wav", recording(noise(65, 0.1)), "65 channels"),
        ):
            arrival = self.upload(name, content)
            self.assertEqual(arrival.status, "failed")
            self.assertIn(words, arrival.message)
            self.assertContains(self.fragment("intake:arrivals"), words)
            self.post("intake:dismiss", arrival.key)
        self.assertFalse(AudioFile.objects.exists())
        self.assertFalse(self.mix.strips.exists())
        self.assertEqual(stored_files(), before)
        self.assertEqual(self.announce("empty.wav", 0).status_code, 422)

    def test_another_rate_is_converted_and_the_original_kept(self) -> None:
        arrival = self.upload("a.aiff", recording(noise(1, 1.0), "AIFF", 44100))
        self.assertIn("44100 Hz and is now at 48000", arrival.message)
        audio = AudioFile.objects.get()
        self.assertEqual(soundfile.info(audio.file.path).samplerate, 48000)
        self.assertEqual(soundfile.info(audio.original.path).samplerate, 44100)
        self.assertContains(self.client.get(self.url("intake:show")), "44100 Hz and is now")
        quiet = self.upload(
            "b.wav", recording(noise(1, 1.0))
        )  # nothing to say: the time line has it
        listed = self.fragment("intake:arrivals")
        self.assertContains(listed, "44100 Hz and is now")
        self.assertNotContains(listed, quiet.name)
        self.post("intake:dismiss", arrival.key)
        self.assertNotContains(self.fragment("intake:arrivals"), "44100 Hz")

    def test_pieces_follow_one_another_and_a_break_is_gone_on_from(self) -> None:
        """tus 1.0.0: HEAD tells the offset; a piece that does not follow it is a conflict."""
        whole = recording(noise(2, 1.0))
        address = self.announce("../two.wav", len(whole))["Location"]
        third = len(whole) // 3
        self.assertEqual(self.send_piece(address, 0, whole[:third])["Upload-Offset"], str(third))
        self.assertEqual(self.send_piece(address, 0, whole[:third]).status_code, 409)
        self.assertContains(self.fragment("intake:arrivals"), "choose it again to go on")
        head = self.client.head(address, headers=TUS)
        self.assertEqual(
            (head["Upload-Offset"], head["Upload-Length"]), (str(third), str(len(whole)))
        )
        self.send_piece(address, third, whole[third:] + b"and more than was announced")
        arrival = Arrival.objects.get()
        self.assertEqual((arrival.status, arrival.offset), ("checking", len(whole)))
        check_arrival(arrival_id=arrival.pk)
        self.assertEqual(self.document().tracks[0].name, "two")
        self.assertFalse(list(stored.below(arrival.folder)))
        self.assertEqual(self.send_piece(address, len(whole), b"x").status_code, 409)
        self.assertEqual(self.client.head(address).status_code, 412)
        self.client.force_login(make_user("eve"))
        self.assertEqual(self.client.head(address, headers=TUS).status_code, 404)

    def test_what_broke_off_is_forgotten_on_demand(self) -> None:
        address = self.announce("two.wav", 1000)["Location"]
        self.send_piece(address, 0, b"x" * 10)
        arrival = Arrival.objects.get()
        self.assertEqual(len(list(stored.below(arrival.folder))), 1)
        self.assertEqual(self.client.delete(address, headers=TUS).status_code, 204)
        self.assertFalse(list(stored.below(arrival.folder)) or Arrival.objects.exists())

    def checking(self) -> Arrival:
        """A recording that has arrived whole and waits to be checked."""
        whole = recording(noise(1, 0.5))
        self.send_piece(self.announce("one.wav", len(whole))["Location"], 0, whole)
        return Arrival.objects.get()

    def test_a_busy_machine_refuses_nothing_and_is_asked_again(self) -> None:
        arrival = self.checking()
        busy = patch("metaphon.web.intake.tasks.store", side_effect=MachineBusy("Too busy."))
        for attempt in (1, 2, 3):
            with busy:
                check_arrival(arrival_id=arrival.pk, attempt=attempt)
            arrival.refresh_from_db()
            self.assertEqual(arrival.status, "checking")
            self.assertEqual(self.taken_from_queue("check_arrival")[-1]["attempt"], attempt + 1)
            self.assertContains(self.fragment("intake:arrivals"), "Too busy.")
        with busy:
            check_arrival(arrival_id=arrival.pk, attempt=4)
        self.assertContains(self.fragment("intake:arrivals"), "Try again")
        retry = self.client.post(self.url("intake:retry_arrival", arrival.key))
        self.assertNotContains(retry, "Too busy.")
        [job] = self.taken_from_queue("check_arrival")
        check_arrival(**job)
        self.assertEqual(self.document().tracks[0].name, "one")
        self.assertFalse(list(stored.below(arrival.folder)))

    def test_what_is_being_checked_can_be_cancelled(self) -> None:
        arrival = self.checking()
        self.assertContains(self.fragment("intake:arrivals"), "Cancel")

        def dismissed(*args: Any) -> Any:  # while every sample is looked at
            self.client.post(self.url("intake:dismiss", arrival.key))
            return store(*args)

        with patch("metaphon.web.intake.tasks.store", side_effect=dismissed):
            check_arrival(arrival_id=arrival.pk)
        self.assertFalse(Arrival.objects.exists() or self.mix.strips.exists())
        self.assertFalse(self.mix.audio_files.exists() or list(stored.below(arrival.folder)))
        check_arrival(arrival_id=arrival.pk)  # before its turn came

    def test_a_file_that_cannot_be_read_is_not_offered_again(self) -> None:
        address = self.announce("none.wav", 9)["Location"]
        self.send_piece(address, 0, b"no sound.")
        check_arrival(arrival_id=Arrival.objects.get().pk)
        said = self.fragment("intake:arrivals")
        self.assertNotContains(said, "Try again")
        self.assertContains(said, "Close")
        refused = self.post("intake:retry_arrival", Arrival.objects.get().key)
        self.assertIn("send it again", self.said(refused))

    def test_what_has_arrived_is_listened_to_by_itself(self) -> None:
        self.taken_from_queue("survey_mix")
        self.bring_in("one.wav")
        self.assertEqual(self.taken_from_queue("survey_mix"), [{"mix_id": self.mix.pk}])

    def test_more_containers_are_read_and_losses_are_told(self) -> None:
        sound = noise(2, 1.0)
        for name, kind, subtype in (
            ("a.wav", "RF64", "PCM_24"),
            ("a.w64", "W64", "PCM_24"),
            ("a.caf", "CAF", "PCM_24"),
            ("a.ogg", "OGG", "VORBIS"),
            ("a.opus", "OGG", "OPUS"),
            ("a.mp3", "MP3", "MPEG_LAYER_III"),
        ):
            with self.subTest(name, kind=kind), tempfile.TemporaryDirectory() as folder:
                path = Path(folder) / name
                soundfile.write(path, sound.T, 48000, format=kind, subtype=subtype)
                content = path.read_bytes()
                arrival = self.upload(name, content)
                self.assertEqual(arrival.status, "done", arrival.message)
                audio = AudioFile.objects.latest("pk")
                self.assertAlmostEqual(audio.frames, 48000, delta=2400)
                lossy = kind in ("OGG", "MP3")
                self.assertEqual("what its coding took away" in arrival.message, lossy)
                self.assertEqual(bool(audio.original), lossy)
                if kind == "RF64":
                    again = self.upload("b.wav", b"BW64" + content[4:])
                    self.assertEqual(again.status, "done", again.message)

    def test_recordings_are_placed_by_the_time_their_headers_say(self) -> None:
        for name in ("one.wav", "two.wav"):
            self.upload(name, recording(noise(1, 0.5)))
        page = self.client.get(self.url("intake:show"))
        self.assertNotContains(page, "Place by time reference")
        for audio, reference_s in zip(AudioFile.objects.all(), (36012.5, 36000.0), strict=True):
            audio.time_reference_s = reference_s
            audio.save()
        page = self.client.get(self.url("intake:show"))
        self.assertContains(page, "Place by time reference")
        command = json.loads(page.context["by_reference"].model_dump_json())
        self.edit("intake", **command)
        starts = [track.clips[0].start_s for track in self.document().tracks]
        self.assertEqual(starts, [12.5, 0.0])

    def test_peaks_are_given_to_members_alone(self) -> None:
        self.upload("one.wav", recording(noise(1, 0.5)))
        audio = AudioFile.objects.get()
        address = self.url("intake:peaks", audio.pk, 8, 0)
        self.assertEqual(len(self.client.get(address).content), 2 * 2 * 94)  # 24000 / 256
        self.assertEqual(
            self.client.get(self.url("intake:peaks", audio.pk, 60, 0)).status_code, 422
        )
        audio.waveform.delete()
        self.assertEqual(len(self.client.get(address).content), 2 * 2 * 94)  # measured again
        self.client.force_login(make_user("eve"))
        self.assertEqual(self.client.get(address).status_code, 404)


class Flow(WebTest):
    def test_controls_come_from_the_parameter_model(self) -> None:
        track = self.bring_in("a.wav", noise(2, 0.1))
        self.edit("flow", kind="add_processor", strip=track.ref, processor="basics")
        page = self.fragment("flow:panel", track.ref)
        self.assertContains(page, 'name="delay_ms"')
        self.assertContains(page, 'data-high="1000.0"')
        self.assertContains(page, "0 mono, 1 untouched")
        self.assertEqual(len(track.chain), 1)
        self.assertIn("may be 0 to 4", self.said(self.set(track, "chain/0/width", "5")))
        self.assertEqual(
            self.edit(
                "flow", kind="add_processor", strip=track.ref, processor="toaster"
            ).status_code,
            422,
        )

    def test_removing_a_bus_hands_its_feeds_on(self) -> None:
        track = self.bring_in("a.wav")
        for name in ("Inner", "Outer"):
            self.edit("flow", kind="add_bus", name=name, layout="0+2+0")
        inner, outer = self.named("Inner"), self.named("Outer")
        self.edit("flow", kind="route", strips=[inner.ref], to=outer.ref)
        self.edit("flow", kind="route", strips=[track.ref], to=inner.ref)
        self.edit("flow", kind="remove_strip", strip=inner.ref)
        self.assertEqual(track.output, outer.ref)

    def test_sends(self) -> None:
        track = self.bring_in("a.wav")
        self.edit("flow", kind="add_bus", name="Cave", reverb=True)
        cave = self.named("Cave")
        self.assertContains(
            self.edit("flow", kind="send", strips=[track.ref], bus=cave.ref, level_db=-12), "−12.0"
        )
        self.set(track, f"sends/{cave.ref}/tap", "pre")
        [send] = track.sends
        self.assertEqual((send.level_db, send.tap), (-12.0, "pre"))
        self.edit("flow", kind="remove_send", strips=[track.ref], bus=cave.ref)
        self.assertFalse(track.sends)


class Handover(WebTest):
    def setUp(self) -> None:
        super().setUp()
        self.track = self.bring_in("a.wav", noise(1, 1.0))
        for name in ("0+5+0", "binaural"):
            self.edit("handover", kind="add_target", name=name)

    def render(self, **options: Any) -> Render:
        answer = self.post("handover:start", **options)
        self.assertEqual(answer.status_code, 200, answer.get("HX-Trigger"))
        row = self.mix.renders.first()
        assert row is not None
        render_mix(render_id=row.pk)
        row.refresh_from_db()
        return row

    def fetch(self, name: str, key: int, **headers: str):  # type: ignore[no-untyped-def]
        response = self.client.get(self.url(name, key), headers=headers)
        return response, b"".join(response) if response.streaming else response.content

    def test_a_render_from_queue_to_download(self) -> None:
        row = self.render(stems=[f"tracks {name}" for name in ("0+2+0", "0+5+0", "binaural")])
        self.assertEqual((row.status, row.progress), ("done", 1.0))
        files = {file.name: file for file in row.files.all()}
        self.assertEqual(len(files), 8)
        stereo = files["Pier_0+2+0.wav"]
        self.assertAlmostEqual(stereo.figures["correlation"], 1.0, places=3)
        self.assertEqual(len(stereo.history["correlation"]), 11)  # as long as headphones sound on
        response, content = self.fetch("handover:download", stereo.pk)
        self.assertIn('filename="Pier_0+2+0.wav"', response["Content-Disposition"])
        frames = 48000 + load_head(SHIPPED, 48000).taps
        self.assertEqual(soundfile.info(io.BytesIO(content)).frames, frames)
        summary = json.loads(self.fetch("handover:download", files["Pier_report.json"].pk)[1])
        self.assertEqual(
            [f["target"] for f in summary["files"][:3]], ["0+2+0", "0+5+0", "binaural"]
        )
        self.assertIn(
            "True peak", self.fetch("handover:download", files["Pier_report.txt"].pk)[1].decode()
        )
        page = self.client.get(self.url("handover:show"))
        self.assertContains(page, "LUFS")
        self.assertContains(page, "Binaural, stem a")

    def test_a_result_can_be_heard_as_it_was_rendered(self) -> None:
        row = self.render()
        groups = {
            g["title"]: g["items"]
            for g in self.client.get(self.url("listen:sources")).json()["groups"]
        }
        self.assertEqual(
            [item["title"] for item in groups["Rendered"][:3]],
            ["Stereo (0+2+0)", "5.1 (0+5+0)", "Binaural"],
        )
        heard = groups["Rendered"][1]["monitor_source"]
        document = document_heard(self.mix, heard["source"])
        self.assertEqual((heard["target"], document.tracks[0].placement.layout), ("0+5+0", "0+5+0"))
        five = row.files.get(target="0+5+0")
        self.assertEqual(str(document.tracks[0].clips[0].file), five.file.path)
        self.assertEqual(
            len(five.history["correlation"]),
            len(row.files.get(target="0+2+0").history["correlation"]),
        )

    def test_downloads_in_ranges(self) -> None:
        """RFC 9110, section 14."""
        five = self.render().files.get(target="0+5+0")
        whole = self.fetch("handover:download", five.pk)[1]
        response, part = self.fetch("handover:download", five.pk, Range="bytes=100-199")
        self.assertEqual((response.status_code, part), (206, whole[100:200]))
        self.assertEqual(response["Content-Range"], f"bytes 100-199/{len(whole)}")
        self.assertEqual(
            self.fetch("handover:download", five.pk, Range="bytes=-10")[1], whole[-10:]
        )
        self.assertEqual(
            self.fetch("handover:download", five.pk, Range=f"bytes={len(whole)}-")[0].status_code,
            416,
        )

    def test_a_failure_is_one_sentence_and_can_be_tried_again(self) -> None:
        self.set(self.track, "muted", "off")
        path = self.track.recording.file.path
        content = Path(path).read_bytes()
        Path(path).write_bytes(b"gone bad")
        row = self.render()
        self.assertEqual(row.status, "failed")
        self.assertContains(
            self.fragment("handover:progress", row.pk),
            "a.wav is not an audio file that can be read; bring WAV",
        )
        Path(path).write_bytes(content)
        self.post("handover:retry", row.pk)
        again = self.mix.renders.first()
        render_mix(render_id=again.pk)
        again.refresh_from_db()
        self.assertEqual((again.status, again.options), ("done", row.options))

    def test_cancelling_while_waiting_and_while_running(self) -> None:
        self.post("handover:start")
        row = self.mix.renders.first()
        self.post("handover:cancel", row.pk)
        render_mix(render_id=row.pk)
        row.refresh_from_db()
        self.assertEqual((row.status, row.files.count()), ("cancelled", 0))
        self.post("handover:start")
        row = self.mix.renders.first()
        with (
            mock.patch.object(parts, "TELL_EVERY_S", 0.0),
            mock.patch.object(rendering, "check") as check,
        ):
            Render.objects.filter(pk=row.pk).update(status="cancelling")
            render_mix(render_id=row.pk)
            check.assert_not_called()
        row.refresh_from_db()
        self.assertEqual((row.status, row.files.count()), ("cancelled", 0))

    def test_a_render_cancelled_at_the_last_moment_publishes_nothing(self) -> None:
        self.post("handover:start")
        row = self.mix.renders.first()
        before = stored_files()

        def too_late(*told: object) -> list:
            Render.objects.filter(pk=row.pk).update(status="cancelling")
            return []

        with mock.patch.object(rendering, "check", too_late):
            render_mix(render_id=row.pk)
        row.refresh_from_db()
        self.assertEqual((row.status, row.files.count()), ("cancelled", 0))
        self.assertEqual(stored_files(), before)

    def test_removing_deletes_the_files(self) -> None:
        before = stored_files()
        row = self.render()
        self.post("handover:remove", row.pk)
        self.assertEqual(stored_files(), before)
        self.assertFalse(self.mix.renders.exists())

    def test_choices_are_checked(self) -> None:
        self.assertIn(
            "FLAC holds", self.said(self.post("handover:start", container="flac", bits="32f"))
        )
        self.assertIn("The depth should be", self.said(self.post("handover:start", bits="12")))
        self.assertIn("no target", self.said(self.edit("handover", kind="add_target", name="5.1")))
        for name in ("0+2+0", "0+5+0", "binaural"):
            self.edit("handover", kind="remove_target", name=name)
        self.assertIn("No target is chosen", self.said(self.post("handover:start", targets=())))

    def test_correlation_is_drawn_with_gaps_and_dips(self) -> None:
        self.assertEqual(correlation_path([1.0, None, -1.0]), "M 100.0 0.000 M 500.0 2.000")
        long = [1.0] * 3000
        long[1234] = -0.5
        self.assertIn("1.500", correlation_path(long))


class Timecode(WebTest):
    def test_a_track_of_it_is_made_read_and_places_what_was_recorded_beside_it(self) -> None:
        self.assertIn(
            "is no timecode", self.said(self.post("intake:timecode", rate="25", start="9"))
        )
        self.assertIn("from the list", self.said(self.post("intake:timecode", rate="26")))
        self.timecode_made("intake:timecode", rate="25", start="10:00:00:00")
        strip = self.named("Timecode 25")
        self.assertTrue(strip.resting)
        made = AudioFile.objects.get(name="Timecode 25.wav")
        said = self.post("intake:read_timecode", made.pk)["HX-Trigger"]
        # the first frame has no edge before it that says where it begins
        self.assertIn("10:00:00:01 at 0.040 s, unbroken", said)
        late = as_sound(read_timecode("10:00:02:00", RATES["25"]), RATES["25"], 2.0, RATE_HZ)
        other = self.bring_in("recorder.wav", late[None])
        audio = AudioFile.objects.get(name="recorder.wav")
        self.post("intake:read_timecode", audio.pk)
        page = self.client.get(self.url("intake:show"))
        command = page.context["by_reference"].model_dump(mode="json")
        self.edit("intake", **command)
        self.mix.refresh_from_db()
        document = document_of(self.mix)
        start = next(t for t in document.tracks if t.id == other.ref).clips[0].start_s
        self.assertAlmostEqual(start, 2.0, places=4)
        self.bring_in("plain.wav", noise(1, 1.0))
        audio = AudioFile.objects.get(name="plain.wav")
        self.assertIn("no timecode", self.said(self.post("intake:read_timecode", audio.pk)))

    def test_how_far_a_recorder_is_out_is_found(self) -> None:
        """By the timecode of the mix; wherever the clip of its take was put."""
        self.timecode_made("intake:timecode", rate="25", start="10:00:00:00")
        for frames, words in (("7", "7.0 frames ahead of"), ("-12", "12.0 frames behind")):
            with self.subTest(frames):
                self.timecode_made(
                    "intake:record_timecode", rate="25", start="10:00:00:00", frames=frames
                )
                audio = AudioFile.objects.order_by("pk").last()
                assert audio is not None
                said = self.post("intake:read_timecode", audio.pk)["HX-Trigger"]
                self.assertIn(f"{words} the timecode of the mix", said)
        strip = self.document().tracks[-1]
        self.edit("intake", kind="move_clip", strip=strip.id, place=0, start_s=1.0)
        said = self.post("intake:read_timecode", audio.pk)["HX-Trigger"]
        self.assertIn("37.0 frames behind", said)
        nonsense = self.post("intake:record_timecode", rate="25", start="10:00:00:00", frames="x")
        self.assertIn("type how many", self.said(nonsense))
