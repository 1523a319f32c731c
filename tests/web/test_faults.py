"""What was a fault of the program, or was taken in part without a word: one sentence each."""

import json
from typing import Any

from django.core.files.uploadedfile import SimpleUploadedFile
from django.http import HttpRequest
from django.test import Client, RequestFactory

from metaphon.web.jobs.models import Render, RenderFile
from metaphon.web.mixes.access import new_token
from metaphon.web.shell.streaming import send_file
from tests.sounds import noise
from tests.web.base import WebTest


class Sentences(WebTest):
    def take(self, content: str, name: str = "edit.csv", **more: str) -> Any:
        file = SimpleUploadedFile(name, content.encode())
        return self.post("intake:take_edits", file=file, **more)

    def edits(self, *commands: dict[str, Any]) -> Any:
        token = new_token(self.user, "nightly")
        return Client().post(
            f"/api/mix/{self.mix.pk}/edits",
            json.dumps({"commands": commands}),
            "application/json",
            headers={"Authorization": f"Bearer {token}"},
        )

    def test_lists_from_other_programs(self) -> None:
        strip = self.bring_in("gull.wav", noise(1, 0.5))
        markers = "at_s,name\n" + "".join(f"{n / 10},m{n}\n" for n in range(15_000))
        clips = "recording,track,start_s\n" + f"gull.wav,{strip.name},0.1\n" * 19_000
        for content, said in (
            (markers, "15,000 things at once"),
            (clips, "more than a track"),
            ("recording,start_s\n" + "x" * 200_000 + ",0\n", "no table that can be read"),
            ("[" * 100_000, "names no clip"),
            ("{" + '"a":[' * 100_000, "export it again"),
            ("at_s,name\n1e999,x\n", "Line 2"),
        ):
            before = self.document()
            answer = self.take(content, sure="1")
            self.assertEqual(answer.status_code, 422, said)
            self.assertIn(said, self.said(answer))
            self.assertEqual(self.document(), before)

    def test_a_thousand_and_one_commands(self) -> None:
        self.bring_in("gull.wav", noise(1, 0.1))
        one = {"kind": "set", "strips": ["gull"], "path": "gain_db", "value": -1.0}
        answer = self.edits(*[one] * 1001)
        self.assertEqual(answer.status_code, 422)
        self.assertIn("1,000 commands at once; these are 1,001", answer.json()["message"])
        self.assertEqual(self.edits(*[one] * 1000).status_code, 200)

    def test_names_are_one_line_without_control_characters(self) -> None:
        answer = self.edits(
            {"kind": "rename_mix", "title": "Pi\u0007er\nat\u202enight"},
            {"kind": "add_bus", "name": "Ha\u0001ll", "layout": "0+2+0"},
        )
        self.assertEqual(answer.status_code, 200, answer.content)
        document = self.document()
        self.assertEqual((document.title, document.buses[0].name), ("Pi er at night", "Ha ll"))
        note = {"kind": "note", "strip": document.buses[0].id, "note": "first\r\nsecond\u0000"}
        self.assertEqual(self.edits(note).status_code, 422)  # NUL in JSON is no text at all
        self.edits({**note, "note": "first\r\nsecond\u0007"})
        self.assertEqual(self.document().buses[0].note, "first\nsecond")

    def test_control_characters_in_forms_and_file_names(self) -> None:
        for data in ({"title": "a\x07b"}, {"title": "a\x00b"}, {"title": "a\x85b"}):
            self.assertEqual(self.client.post("/mixes/new", data).status_code, 422, data)
        file = SimpleUploadedFile("a\x07b.csv", b"1,2\n")
        self.assertEqual(self.post("intake:take_edits", file=file).status_code, 422)
        arrived = self.upload("tide\x07.wav", b"no sound")
        self.assertEqual(arrived.name, "tide .wav")

    def test_ranges_of_any_length(self) -> None:
        audio = self.bring_in("gull.wav", noise(1, 0.1)).recording
        for asked, status in (
            ("bytes=" + "9" * 5000 + "-", 200),  # RFC 9110: what is no range is left out
            ("bytes=-" + "9" * 5000, 200),
            ("bytes=0-" + "9" * 18, 206),
            ("bytes=" + "9" * 18 + "-", 416),
            ("bytes=²-", 200),
        ):
            request: HttpRequest = RequestFactory().get("/", headers={"Range": asked})
            answer = send_file(request, audio.file, "audio/wav", "gull.wav")
            self.assertEqual(answer.status_code, status, asked[:30])
            answer.close()

    def test_no_difference_of_two_widths(self) -> None:
        row = Render.objects.create(mix=self.mix, revision=0, options={}, status="done")
        files = [
            RenderFile.objects.create(
                render=row,
                kind="audio",
                name=f"{target}.wav",
                file=f"{target}.wav",
                target=target,
                figures={"channels": channels, "sample_rate_hz": 48000},
            )
            for target, channels in (("0+2+0", 2), ("0+5+0", 6))
        ]
        answer = self.fragment("handover:null", files[0].pk, files[1].pk)
        self.assertEqual(answer.status_code, 422)
        self.assertIn("different numbers of channels", self.said(answer))
