"""An installation as the oldest migration left it, and what the present version sees of it.

Run as a program of its own on a database of its own: python -m tests.web.upgrading begin|look
"""

import json
import sys
from pathlib import Path

import django
import soundfile

from tests.sounds import noise

django.setup()

# what follows needs the applications to be set up
from django.conf import settings  # noqa: E402
from django.db import connection  # noqa: E402
from django.db.migrations.executor import MigrationExecutor  # noqa: E402

_OLDEST = [("mixes", "0001_initial")]


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


if __name__ == "__main__":
    {"begin": begin, "look": look}[sys.argv[1]]()
