"""An installation as the oldest migration left it, and what the present version sees of it.

Run as a program of its own on a database of its own:
python -m tests.web.upgrading begin|look|begin_edited|look_edited
"""

import json
import lzma
import sys
from pathlib import Path
from typing import Any

import django
import soundfile

from tests.sounds import noise

django.setup()

# what follows needs the applications to be set up
from django.conf import settings  # noqa: E402
from django.db import connection  # noqa: E402
from django.db.migrations.executor import MigrationExecutor  # noqa: E402

_OLDEST = [("mixes", "0001_initial")]
_BEFORE_VALUES = [("mixes", "0024_kept_bytes")]
_EDITED = Path(__file__).parent / "data" / "mix_of_0024.json.xz"
_TABLES = ("Group", "Strip", "Clip", "Send", "Processor", "Placement", "Automation", "Target")


def begin() -> None:
    """Rows of the first version, and a recording."""
    executor = MigrationExecutor(connection)
    executor.migrate(_OLDEST)
    apps = executor.loader.project_state(_OLDEST).apps

    def made(app: str, model: str, **values: object) -> object:
        return apps.get_model(app, model).objects.create(**values)

    path = Path(settings.MEDIA_ROOT) / "mixes/1/recordings/gull.wav"
    path.parent.mkdir(parents=True)
    soundfile.write(path, noise(1, 0.5).T, 48000, subtype="PCM_24")
    user = made("auth", "User", username="ada")
    mix = made("mixes", "Mix", title="Pier", revision=3)
    made("mixes", "Member", mix=mix, user=user, role="owner")
    audio = made(
        "mixes",
        "AudioFile",
        mix=mix,
        name="gull.wav",
        file="mixes/1/recordings/gull.wav",
        container="WAV",
        encoding="PCM_24",
        channels=1,
        frames=24000,
        source_rate_hz=48000,
    )
    bus = made("mixes", "Strip", mix=mix, kind="bus", ref="hall", name="Hall", layout="0+5+0")
    track = made("mixes", "Strip", mix=mix, kind="track", ref="gull", name="Gull", gain_db=-3.0)
    made("mixes", "Placement", strip=bus, mode="bed", layout="0+5+0")
    made("mixes", "Placement", strip=track, mode="object", azimuth_deg=30.0)
    made("mixes", "Send", source=track, bus=bus, level_db=-9.0)
    band = {"shape": "bell", "frequency_hz": 1000.0, "gain_db": 3.0, "q": 1.0}
    made("mixes", "Processor", strip=track, kind="eq", parameters={"bands": [band]})
    made("mixes", "Clip", track=track, audio=audio, start_s=0.25)
    made("mixes", "Target", mix=mix, name="0+5+0")


def look() -> None:
    """The document of the mix, and whether its owner sees and edits it."""
    from django.test import Client

    from metaphon.web.mixes.models import AudioFile, Member, Mix
    from metaphon.web.mixes.snapshots import document_of

    mix = Mix.objects.get(title="Pier")
    client = Client(SERVER_NAME="localhost")
    client.force_login(Member.objects.get(mix=mix).user)
    pages = [
        client.get(f"/mix/{mix.pk}/{place}/").status_code
        for place in ("intake", "flow", "field", "listen", "handover")
    ]
    command = {"kind": "set", "strips": ["gull"], "path": "gain_db", "value": -6.0}
    edited = client.post(
        f"/mix/{mix.pk}/flow/edit", {"command": json.dumps(command)}, headers={"HX-Request": "true"}
    )
    told = json.loads(document_of(Mix.objects.get(pk=mix.pk)).model_dump_json())
    held = AudioFile.objects.get().bytes
    print(json.dumps({"pages": pages, "edited": edited.status_code, "held": held, **told}))


def _edited() -> dict[str, Any]:
    told: dict[str, Any] = json.loads(lzma.decompress(_EDITED.read_bytes()))
    return told


def begin_edited() -> None:
    """A mix that two people have edited 5,000 times, as the last version with columns kept it."""
    executor = MigrationExecutor(connection)
    executor.migrate(_BEFORE_VALUES)
    apps = executor.loader.project_state(_BEFORE_VALUES).apps
    told = _edited()
    users = {
        name: apps.get_model("auth", "User").objects.create(username=name) for name in ("ada", "bo")
    }
    for table in ("Mix", "AudioFile", *_TABLES):
        model = apps.get_model("mixes", table)
        model.objects.bulk_create(model(**row) for row in told["tables"][table])
    mix_id = told["tables"]["Mix"][0]["id"]
    for audio in told["tables"]["AudioFile"]:
        apps.get_model("mixes", "SpaceResponse").objects.create(
            title=audio["name"], file=audio["file"], channels=1, seconds=0.6, sample_rate_hz=48000
        )
    for user in users.values():
        apps.get_model("mixes", "Member").objects.create(mix_id=mix_id, user=user, role="editor")
    entry = apps.get_model("mixes", "JournalEntry")
    entry.objects.bulk_create(
        entry(**{**row, "user": users[row["user"]]}) for row in told["journal"]
    )
    with connection.cursor() as cursor:  # rows that come get other numbers
        for table in ("journalentry", "strip", "clip", "send", "group"):
            cursor.execute(
                "SELECT setval(pg_get_serial_sequence(%s, 'id'), 1000000)", [f"mixes_{table}"]
            )


def look_edited() -> None:
    """What is otherwise of the mix at any revision that was written down, and how undo goes."""
    from metaphon.core.errors import InputError
    from metaphon.core.files.mixdoc import with_all_files
    from metaphon.web.mixes import journal, snapshots
    from metaphon.web.mixes.models import Member, Mix
    from metaphon.web.mixes.stored_files import name_of

    told, mix = _edited(), Mix.objects.get()
    different = []
    for revision, expected in told["documents"].items():
        found = snapshots.document_at(mix, int(revision))
        plain = with_all_files(found, lambda file: Path(name_of(file))).model_dump(mode="json")
        if plain != expected:
            different.append(
                [revision, *(name for name in expected if plain[name] != expected[name])]
            )
    steps = {"undone": 0, "refused": 0, "redone": 0}
    start = snapshots.document_of(mix)
    for member in Member.objects.order_by("pk"):
        before, taken = snapshots.document_of(mix), 0
        for _ in range(60):
            try:
                journal.undo(mix, member.user)
                taken += 1
            except InputError:  # what the other has built on it
                steps["refused"] += 1
        snapshots.forget()
        snapshots.document_of(mix)
        for _ in range(taken):
            journal.redo(mix, member.user)
        steps["undone"] += taken
        steps["redone"] += snapshots.document_of(mix) == before
    snapshots.forget()
    same = snapshots.document_of(mix) == start
    print(json.dumps({"different": different, "same": same, **steps}))


if __name__ == "__main__":
    {"begin": begin, "look": look, "begin_edited": begin_edited, "look_edited": look_edited}[
        sys.argv[1]
    ]()
