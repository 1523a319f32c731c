"""Markers over the network: taken from a recording, set and removed, refused in a sentence."""

import tempfile
from pathlib import Path

from metaphon.core.files.cues import Cue, cue_chunks
from metaphon.core.files.wave_chunks import add_chunks
from tests.sounds import noise
from tests.web.base import WebTest, recording


class Markers(WebTest):
    def places(self) -> list[tuple[float, str]]:
        return [(one.at_s, one.name) for one in self.document().markers]

    def test_cues_of_a_recording_become_markers_where_it_lies(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "take.wav"
            path.write_bytes(recording(noise(1, 2.0), rate_hz=44100))
            cues = [Cue(22050, "Early"), Cue(44100, "Bell"), Cue(80000, "Cut off")]
            add_chunks(path, cue_chunks(cues))
            arrival = self.upload("take.wav", path.read_bytes())
        track = self.named(arrival.track)
        [clip] = track.clips
        moved = {"start_s": 5.0, "in_s": 0.75, "length_s": 0.9}
        self.write(track, clips=(clip.model_copy(update=moved),))
        page = self.fragment("intake:clip", track.ref, 0)
        self.assertContains(page, "Take its markers")
        self.assertContains(self.post("intake:take_markers", track.ref, 0), "Bell")
        self.assertEqual(self.places(), [(5.25, "Bell")])
        self.post("undo")
        self.assertEqual(self.places(), [])

    def test_what_cannot_be_is_said(self) -> None:
        track = self.bring_in("a.wav", noise(1, 0.5))
        self.assertNotContains(self.fragment("intake:clip", track.ref, 0), "Take its markers")
        answer = self.post("intake:take_markers", track.ref, 0)
        self.assertEqual(answer.status_code, 422)
        self.assertIn("no markers in the part", self.said(answer))
        self.assertEqual(self.edit("intake", kind="remove_marker", marker="gone").status_code, 422)
