"""Clips and markers out of a mix and into another, over the network."""

import json
from typing import Any

from django.core.files.uploadedfile import SimpleUploadedFile

from tests.sounds import noise
from tests.web.base import WebTest


class Exchanged(WebTest):
    def setUp(self) -> None:
        super().setUp()
        self.bell = self.bring_in("bell.wav", noise(1, 2.0))
        self.edit("intake", kind="move_clip", strip=self.bell.ref, place=0, start_s=1.5)
        self.edit("intake", kind="add_marker", at_s=0.5, name="Lamp")

    def given(self, kind: str) -> Any:
        return self.client.get(self.url("intake:give_edits", kind))

    def take(self, name: str, content: bytes, **sure: str) -> Any:
        file = SimpleUploadedFile(name, content)
        return self.post("intake:take_edits", file=file, **(sure or {"sure": "1"}))

    def test_out_and_in_again_as_one_step(self) -> None:
        for kind, name in (("otio", "Pier.otio"), ("clips", "Pier_clips.csv")):
            answer = self.given(kind)
            self.assertIn(name, answer["Content-Disposition"])
            self.assertIn("in the mix already", self.said(self.take(name, answer.content)))
            self.edit("intake", kind="move_clip", strip=self.bell.ref, place=0, start_s=3.0)
            shown = self.take(name, answer.content, look="1")
            self.assertContains(shown, "start 3.000 s to 1.500 s")
            self.assertEqual(self.document().tracks[0].clips[0].start_s, 3.0)  # shown alone
            self.assertEqual(self.take(name, answer.content).status_code, 200)
            [track] = self.document().tracks
            self.assertEqual([one.start_s for one in track.clips], [1.5])
            self.assertEqual(len(self.document().markers), 1)  # there already
            self.post("undo")
            self.post("undo")
            self.assertEqual(self.document().tracks[0].clips[0].start_s, 1.5)
        markers = self.given("markers").content
        self.assertIn("in the mix already", self.said(self.take("m.csv", markers)))
        self.take("m.csv", b"at_s,name\n2.5,Bell\n")
        self.assertEqual([one.at_s for one in self.document().markers], [0.5, 2.5])

    def test_what_cannot_be_is_one_sentence(self) -> None:
        timeline = json.loads(self.given("otio").content)
        text = json.dumps(timeline).replace("bell.wav", "elsewhere.wav").encode()
        for name, content, said in (
            ("t.otio", text, "bring in elsewhere.wav first"),
            ("t.bin", b"\xff\xfe\x00", "no text"),
            ("t.csv", b"nothing\n1\n", "names no clip"),
        ):
            answer = self.take(name, content)
            self.assertEqual(answer.status_code, 422)
            self.assertIn(said, self.said(answer))
        self.assertIn("Choose a file", self.said(self.post("intake:take_edits")))
        self.assertEqual(len(self.document().tracks), 1)
