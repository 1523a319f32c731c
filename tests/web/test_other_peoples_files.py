"""Every file that a command or a setting can name, tried with somebody else's, and with none."""

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from django.conf import settings
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client

from metaphon.core.edits.registry import COMMANDS
from metaphon.web.listen.models import UserFile
from metaphon.web.listen.settings import read_settings
from metaphon.web.mixes.access import new_token
from metaphon.web.mixes.models import AudioFile, Member, SpaceResponse, StripResponse
from tests.sounds import noise
from tests.web.base import WebTest, make_mix, make_user, recording

_Step = str | int
# what a command needs beside the file, by its kind
_REST: dict[str, dict[str, Any]] = {
    "add_bus": {"name": "Hall", "layout": "0+2+0", "reverb": True},
    "add_clip": {"strip": "gull"},
    "add_double": {"strip": "gull"},
    "add_print": {"of": ["gull"], "name": "Print"},
    "add_track": {"name": "New", "mode": "object"},
    "choose_response": {"strip": "hall", "place": 0},
    "set_chain": {"strip": "hall"},
    "set_clips": {"strip": "gull"},
}


def paths_in(schema: Any, root: Any, at: tuple[_Step, ...] = ()) -> Iterator[tuple[_Step, ...]]:
    """Where in the data of a command a file can be named, by its JSON schema."""
    if "$ref" in schema:
        if len(at) > 8:
            return
        yield from paths_in(root["$defs"][schema["$ref"].rsplit("/", 1)[-1]], root, at)
    if schema.get("format") == "path":
        yield at
    for name, part in schema.get("properties", {}).items():
        yield from paths_in(part, root, (*at, name))
    for name in ("anyOf", "oneOf", "allOf", "prefixItems"):
        for part in schema.get(name, []):
            yield from paths_in(part, root, at)
    if isinstance(schema.get("items"), dict):
        yield from paths_in(schema["items"], root, (*at, 0))


def with_file(kind: str, at: tuple[_Step, ...], file: str) -> dict[str, Any]:
    """A command that names a file at a place."""
    value: Any = file
    for step in reversed(at):
        if isinstance(step, int):
            value = [{"kind": "convolution_reverb", **value} if "chain" in at else value]
        else:
            value = {step: value}
    return {"kind": kind, **_REST[kind], **value}


class OtherPeoplesFiles(WebTest):
    def setUp(self) -> None:
        super().setUp()
        self.bring_in("gull.wav", noise(1, 0.3))
        self.edit("reverb", kind="add_bus", name="Hall", layout="0+2+0", reverb=True)
        self.bo = make_user("bo")
        self.theirs = Client()
        self.theirs.force_login(self.bo)
        self.their_mix = make_mix(self.bo, "Cellar")

    def response(self, *, shared: bool = False) -> str:
        """The name of a response of bo's."""
        where = Path(settings.MEDIA_ROOT) / "spaces" / "theirs.wav"
        where.parent.mkdir(parents=True, exist_ok=True)
        where.write_bytes(recording(noise(2, 0.2)))
        row = SpaceResponse.objects.create(
            user=self.bo,
            title="Cellar",
            file="spaces/theirs.wav",
            shared=shared,
            channels=2,
            seconds=0.2,
            sample_rate_hz=48000,
        )
        return row.stored_as

    def send(self, command: dict[str, Any]) -> Any:
        token = new_token(self.user, "nightly")
        return Client().post(
            f"/api/mix/{self.mix.pk}/edits",
            json.dumps({"commands": [command]}),
            "application/json",
            headers={"Authorization": f"Bearer {token}"},
        )

    def test_no_command_takes_one_whether_it_exists_or_not(self) -> None:
        response = self.response()
        audio = AudioFile.objects.create(
            mix=self.their_mix,
            name="secret.wav",
            file=f"mixes/{self.their_mix.pk}/recordings/secret.wav",
            container="WAV",
            encoding="PCM_24",
            channels=1,
            frames=9,
            source_rate_hz=48000,
        )
        root = str(Path(settings.MEDIA_ROOT).resolve())
        names = (
            *(response, f"{root}/{response}", str(audio.file.name), "spaces/none.wav"),
            *("shipped/../../pyproject.toml", "shipped/none.flac", "../../../etc/passwd"),
            *("/etc/passwd", "", "."),
        )
        before, tried = self.document(), 0
        for kind, command in COMMANDS.items():
            if kind in ("batch", "restore"):  # commands again; and a whole mix, of the same parts
                continue
            schema = command.model_json_schema()
            for at in set(paths_in(schema, schema)):
                said = set()
                for name in names:
                    answer = self.send(with_file(kind, at, name))
                    if name == "" and kind in ("add_bus", "choose_response", "set_chain"):
                        continue  # none at all
                    self.assertEqual(answer.status_code, 422, (kind, name, answer.content))
                    said.add(answer.json()["message"].replace(Path(name).name, "X"))
                    tried += 1
                self.assertLessEqual(len(said), 2, (kind, said))
        self.assertGreaterEqual(tried, 70)
        for path in ("chain/0/file", "clips/0/file"):
            strip = "hall" if "chain" in path else "gull"
            for name in names:
                command = {"kind": "set", "strips": [strip], "path": path, "value": name}
                self.assertEqual(self.send(command).status_code, 422, (path, name))
        after = self.document()
        self.assertEqual(after.tracks, before.tracks)
        self.assertFalse(StripResponse.objects.exists())

    def test_one_that_is_shared_or_in_the_mix_already_is_taken(self) -> None:
        response = self.response(shared=True)
        command = {**_REST["add_bus"], "kind": "add_bus", "file": response}
        self.assertEqual(self.send(command).status_code, 200)
        SpaceResponse.objects.update(shared=False)
        self.assertEqual(self.send({**command, "name": "Yard"}).status_code, 200)
        for bus in self.document().buses:
            self.send({"kind": "remove_strip", "strip": bus.id})
        self.assertEqual(self.send({**command, "name": "Nave"}).status_code, 422)

    def test_what_is_refused_names_no_mix_that_one_is_not_in(self) -> None:
        response = self.response(shared=True)
        self.send({**_REST["add_bus"], "kind": "add_bus", "file": response})
        row = SpaceResponse.objects.get()
        address = f"/mix/{self.their_mix.pk}/reverb/responses/{row.pk}/forget"
        answer = self.theirs.post(address, headers={"HX-Request": "true"})
        said = answer.content.decode() + answer.get("HX-Trigger", "")
        self.assertEqual(answer.status_code, 422)
        self.assertNotIn("Pier", said)
        self.assertIn("somebody else", said)
        Member.objects.create(mix=self.mix, user=self.bo, role="listener")
        answer = self.theirs.post(address, headers={"HX-Request": "true"})
        self.assertIn("Pier", answer.get("HX-Trigger", ""))

    def test_no_setting_of_listening_takes_one(self) -> None:
        row = UserFile.objects.create(
            user=self.bo, kind="head", name="h.sofa", file="people/h.sofa"
        )
        trying = json.dumps({**_REST["add_bus"], "kind": "add_bus", "file": self.response()})
        for state in (
            {"monitor": {"binaural": {"head": f"own:{row.pk}"}}},
            {"monitor_sources": {"a": {"trying": trying}}},
        ):
            _, forgotten = read_settings(state, self.mix, self.user)
            self.assertEqual(len(forgotten), 1, state)


class Shares(WebTest):
    def test_heads_and_responses_count_in_ones_share(self) -> None:
        listener = make_user("bo")
        Member.objects.create(mix=self.mix, user=listener, role="listener")
        guest = Client()
        guest.force_login(listener)
        table = "".join(f"{hertz},0\n" for hertz in range(20, 20000, 90)).encode()

        def bring() -> Any:
            file = SimpleUploadedFile("own.csv", table)
            address = f"/mix/{self.mix.pk}/listen/file/headphones"
            return guest.post(address, {"file": file}, headers={"HX-Request": "true"})

        with self.settings(PERSON_BYTES=len(table) + 1):
            first = bring()
            self.assertEqual(first.status_code, 200, first.content)
            self.assertEqual(UserFile.objects.get().bytes, len(table))
            second = bring()
        self.assertEqual(second.status_code, 422)
        self.assertIn("Remove responses", self.said(second))
        self.assertEqual(UserFile.objects.count(), 1)
