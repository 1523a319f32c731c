"""A signed-in person, a mix of theirs, and recordings to bring in."""

import io
import json
from base64 import b64encode
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np
import soundfile
from django.conf import settings
from django.contrib.auth import get_user_model
from django.db import connection
from django.test import Client, TestCase
from django.urls import reverse

from metaphon.core.document.mix import Mix as Document
from metaphon.web.intake.models import Arrival
from metaphon.web.intake.tasks import check_arrival, make_timecode
from metaphon.web.mixes import snapshots
from metaphon.web.mixes.models import AudioFile, Member, Mix
from metaphon.web.mixes.rows import write_document
from metaphon.web.mixes.snapshots import document_of
from metaphon.web.mixes.stored_files import name_of
from metaphon.web.mixes.unpacking import unpack
from tests.sounds import RATE_HZ, noise

TUS = {"Tus-Resumable": "1.0.0"}


def recording(sound: np.ndarray, kind: str = "WAV", rate_hz: int = RATE_HZ) -> bytes:
    file = io.BytesIO()
    soundfile.write(file, np.atleast_2d(sound).T, rate_hz, format=kind, subtype="PCM_24")
    return file.getvalue()


def stored_files() -> list[Path]:
    return [path for path in Path(settings.MEDIA_ROOT).rglob("*") if path.is_file()]


def make_user(name: str) -> Any:
    return get_user_model().objects.create_user(name, password="long enough word")


def make_mix(owner: Any, title: str = "Pier") -> Mix:
    mix = Mix.objects.create(title=title)
    Member.objects.create(mix=mix, user=owner, role="owner")
    unpack(Document(title=title, targets=("0+2+0",)), mix, lambda file: AudioFile())
    return mix


class StripOf:
    """A track or bus of a mix by its id; whatever else is asked of it is read at that moment."""

    def __init__(self, mix: Mix, ref: str) -> None:
        self.mix, self.ref = mix, ref

    def __getattr__(self, name: str) -> Any:
        strip = document_of(Mix.objects.get(pk=self.mix.pk)).find_strip(self.ref)
        return getattr(strip, name)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, StripOf) and (self.mix, self.ref) == (other.mix, other.ref)

    def __hash__(self) -> int:
        return hash((self.mix, self.ref))

    @property
    def kinds(self) -> list[str]:
        """What its chain is made of."""
        return [processor.kind for processor in self.chain]

    @property
    def recording(self) -> AudioFile:
        """The recording of its one clip."""
        [clip] = self.clips
        return AudioFile.objects.get(mix=self.mix, file=name_of(clip.file))


def named(mix: Mix, name: str) -> StripOf:
    """The track or bus of a mix that is called so."""
    document = document_of(Mix.objects.get(pk=mix.pk))
    [ref] = [strip.id for strip in document.strips if strip.name == name]
    return StripOf(mix, ref)


class WebTest(TestCase):
    def setUp(self) -> None:
        self.user = make_user("ada")
        self.client.force_login(self.user)
        self.mix = make_mix(self.user)

    def url(self, name: str, *arguments: object) -> str:
        return reverse(name, args=[self.mix.pk, *arguments])

    def fragment(self, view: str, *arguments: object) -> Any:
        """A part of a page, asked for as htmx does."""
        return self.client.get(self.url(view, *arguments), headers={"HX-Request": "true"})

    def post(
        self,
        view: str,
        /,
        *arguments: object,
        seen: int | None = None,
        client: Client | None = None,
        **data: object,
    ) -> Any:
        """Post as htmx does; a handover brings the formats along that the page ticks at first."""
        if view in ("handover:start", "handover:keep", "handover:preset"):
            data = {"targets": self.document().targets, **data}
        headers = {"HX-Request": "true"} | (
            {"X-Seen-Revision": str(seen)} if seen is not None else {}
        )
        return (client or self.client).post(self.url(view, *arguments), data, headers=headers)

    def edit(
        self,
        workspace: str,
        *,
        seen: int | None = None,
        client: Client | None = None,
        **command: object,
    ) -> Any:
        """Send a command as a workspace does."""
        return self.post(f"{workspace}:edit", seen=seen, client=client, command=json.dumps(command))

    def set(
        self,
        strip: StripOf,
        path: str,
        value: object,
        *,
        also: Sequence[StripOf] = (),
        groups: bool = True,
        workspace: str = "flow",
        seen: int | None = None,
        client: Client | None = None,
    ) -> Any:
        """Set a value of a strip, and of those chosen with it, as a control does."""
        strips = [strip.ref, *(one.ref for one in also)]
        command = {
            "kind": "set",
            "strips": strips,
            "path": path,
            "value": value,
            "with_group": groups,
        }
        return self.edit(workspace, seen=seen, client=client, **command)

    def write(self, strip: StripOf, **values: Any) -> None:
        """Set values of a strip without a command, as no program would; `placement` of its own."""
        before, held = self.document(), self.document().find_strip(strip.ref)
        placement = held.placement.model_copy(update=values.pop("placement", {}))
        new = held.model_copy(update={"placement": placement, **values})
        write_document(self.mix, before, before.with_strip(new))
        snapshots.forget()

    def named(self, name: str) -> StripOf:
        """The track or bus that is called so."""
        return named(self.mix, name)

    def document(self) -> Document:
        """The mix as it is."""
        return document_of(Mix.objects.get(pk=self.mix.pk))

    def announce(self, name: str, length: int) -> Any:
        """Say that a recording is to be sent, as the open protocol has it (tus 1.0.0)."""
        metadata = f"filename {b64encode(name.encode()).decode()}"
        headers = {**TUS, "Upload-Length": str(length), "Upload-Metadata": metadata}
        return self.client.post(self.url("intake:arrive"), headers=headers)

    def send_piece(self, address: str, offset: int, piece: bytes) -> Any:
        """Send a piece of a recording."""
        headers = {**TUS, "Upload-Offset": str(offset)}
        kind = "application/offset+octet-stream"
        return self.client.patch(address, piece, content_type=kind, headers=headers)

    def upload(self, name: str, content: bytes) -> Arrival:
        """Send a recording in one piece and have it checked; what became of it."""
        address = self.announce(name, len(content))["Location"]
        self.assertEqual(self.send_piece(address, 0, content).status_code, 204)
        arrival = Arrival.objects.latest("pk")
        check_arrival(arrival_id=arrival.pk)
        arrival.refresh_from_db()
        return arrival

    def bring_in(self, name: str, sound: np.ndarray | None = None) -> StripOf:
        arrival = self.upload(name, recording(noise(1, 0.5) if sound is None else sound))
        self.assertEqual(arrival.status, "done", arrival.message)
        return self.named(arrival.track)

    def timecode_made(self, view: str, /, **data: object) -> Any:
        """Have timecode made and wait for it."""
        answer = self.post(view, **data)
        for known in self.taken_from_queue("make_timecode"):
            make_timecode(**known)
        return answer

    def taken_from_queue(self, task: str) -> list[dict[str, Any]]:
        """What waits for a worker under the name of a task, first come first, and waits no more."""
        with connection.cursor() as cursor:
            cursor.execute(
                "delete from procrastinate_jobs where task_name = %s returning id, args::text",
                [task],
            )
            return [json.loads(arguments) for _, arguments in sorted(cursor.fetchall())]

    def said(self, response: Any) -> str:
        """The sentence of a refusal."""
        return json.loads(response["HX-Trigger"])["say"]["message"]
