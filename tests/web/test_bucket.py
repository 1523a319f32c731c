"""Everything kept in a bucket: several machines, each with a folder of its own and nothing else.

The bucket is moto's server, a stand-in for one that speaks S3.
"""

import logging
import os
import tempfile
import time
import uuid
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from unittest.mock import patch

import boto3
import numpy as np
from django.conf import settings
from django.test.utils import override_settings
from moto.server import ThreadedMotoServer

from metaphon.core.files.apart import work_apart
from metaphon.core.files.audio import ClipReader, probe
from metaphon.web.bucket import Bucket
from metaphon.web.intake.models import Arrival
from metaphon.web.intake.tasks import check_arrival
from metaphon.web.jobs.keeping import taken_out
from metaphon.web.jobs.models import RenderFile
from metaphon.web.jobs.sweeping import sweep
from metaphon.web.jobs.tasks import render_mix, render_part
from metaphon.web.mixes import snapshots
from metaphon.web.mixes.models import AudioFile
from metaphon.web.mixes.stored_files import local_path
from metaphon.web.storage import stored
from tests.sounds import noise
from tests.web import test_parts
from tests.web.base import WebTest, recording

_REGION = "us-east-1"
_LONG_AGO = datetime(2020, 1, 1, tzinfo=UTC)


class InBucket(WebTest):
    """Machines by name; each has a folder of its own."""

    def setUp(self) -> None:
        logging.getLogger("werkzeug").setLevel(logging.ERROR)
        server = ThreadedMotoServer("127.0.0.1", 0, verbose=False)
        server.start()
        self.addCleanup(server.stop)
        host, port = server.get_host_and_port()
        self.address = f"http://{host}:{port}"
        self.name = uuid.uuid4().hex  # all servers of a process have one memory
        made = boto3.resource("s3", **self.options, region_name=_REGION)
        self.bucket = made.create_bucket(Bucket=self.name)
        self.folders = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.enterContext(self.machine("first"))
        super().setUp()

    @property
    def options(self) -> dict[str, str]:
        return {
            "endpoint_url": self.address,
            "aws_access_key_id": "key",
            "aws_secret_access_key": "secret",
        }

    @contextmanager
    def machine(self, name: str) -> Iterator[Path]:
        """Work on a machine that has only what it brought there itself."""
        folder = self.folders / name
        folder.mkdir(exist_ok=True)
        kept = {
            "BACKEND": "metaphon.web.bucket.Bucket",
            "OPTIONS": {
                "bucket_name": self.name,
                "endpoint_url": self.address,
                "access_key": "key",
                "secret_key": "secret",
            },
        }
        with override_settings(
            MEDIA_ROOT=folder,
            FILE_UPLOAD_TEMP_DIR=folder,
            STORAGES={**settings.STORAGES, "default": kept},
        ):
            stored.exists("anything")  # from now on files are brought to this one
            snapshots.forget()  # what this process knows of mixes has places of another machine
            yield folder
        snapshots.forget()

    def held(self) -> set[str]:
        return {one.key for one in self.bucket.objects.all()}


class Recordings(InBucket):
    def setUp(self) -> None:
        super().setUp()
        self.bring_in("rain.wav", noise(2, 1.5))
        self.audio = AudioFile.objects.get()

    def test_one_that_was_sent_to_a_machine_is_drawn_measured_and_given_by_another(self) -> None:
        self.assertEqual(self.held(), {self.audio.file.name, self.audio.waveform.name})
        with self.machine("second") as folder:
            self.assertEqual(list(folder.rglob("*.wav")), [])
            drawn = self.client.get(self.url("intake:peaks", self.audio.pk, 4, 0))
            self.assertEqual(drawn.status_code, 200)
            heard = ClipReader(local_path(self.audio)).read(0, self.audio.frames)
            np.testing.assert_allclose(heard, noise(2, 1.5), atol=2.0**-23)

    def test_a_page_brings_nothing_that_it_does_not_read(self) -> None:
        with self.machine("page") as folder:
            for place in ("intake", "flow", "field", "listen", "lanes", "handover", "findings"):
                self.assertLess(self.client.get(self.url(f"{place}:show")).status_code, 400)
            self.assertEqual([path for path in folder.rglob("*") if path.is_file()], [])

    def test_a_process_apart_has_it_brought_too(self) -> None:
        with self.machine("second"):
            path = local_path(self.audio)
            self.assertFalse(path.exists())
            found = work_apart(probe, path, limits=(1 << 31, 30.0))
            self.assertEqual(found.frames, self.audio.frames)

    def test_pieces_come_by_several_machines(self) -> None:
        sent = recording(noise(1, 0.5))
        address = self.announce("rain.wav", len(sent))["Location"]
        with patch("metaphon.web.intake.arrivals.check_arrival.defer"):
            for number, first in enumerate(range(0, len(sent), 20_000)):
                with self.machine(f"page {number}"):
                    answer = self.send_piece(address, first, sent[first : first + 20_000])
                    self.assertEqual(answer.status_code, 204)
        with self.machine("worker"):
            check_arrival(arrival_id=Arrival.objects.latest("pk").pk)
        self.assertEqual(AudioFile.objects.count(), 2)
        self.assertFalse({name for name in self.held() if name.startswith("arriving")})

    def test_what_is_not_used_makes_way_and_comes_again(self) -> None:
        path = local_path(self.audio)
        old = time.time() - 7200.0
        for one in (path, Path(self.audio.waveform.path)):
            os.utime(one, (old, old))
        lost = Path(settings.MEDIA_ROOT) / "lost"
        lost.write_bytes(b"x")
        stored.put_in("mixes/1/lost.wav", lost)
        with override_settings(CACHE_BYTES=10**9):
            sweep()
        self.assertTrue(path.exists())
        with override_settings(CACHE_BYTES=100):
            sweep()
        self.assertFalse(path.exists())
        self.assertEqual(probe(path).frames, self.audio.frames)
        self.assertTrue(path.exists())
        self.assertIn("mixes/1/lost.wav", self.held())  # it may belong to work under way
        with patch.object(Bucket, "below", return_value=[("mixes/1/lost.wav", _LONG_AGO)]):
            sweep()
        self.assertNotIn("mixes/1/lost.wav", self.held())

    def test_it_goes_with_its_mix(self) -> None:
        with self.captureOnCommitCallbacks(execute=True):
            self.post("remove_mix", title=self.mix.title)
        self.assertEqual(self.held(), set())

    def test_a_backup_takes_it_out_of_the_bucket(self) -> None:
        folder = self.folders / "backup"
        names = [str(self.audio.file.name), "mixes/1/gone.wav"]
        with self.machine("second"):
            for _ in range(2):  # the second one has nothing to do
                self.assertEqual(taken_out(names, folder), names[1:])
        self.assertEqual((folder / names[0]).stat().st_size, self.audio.file.size)


class Renders(InBucket, test_parts.InParts):
    """Each part of a render by a machine of its own, with the bytes of one machine."""

    def test_the_same_bytes_by_however_many_workers(self) -> None:
        alone = self.asked_for()
        render_mix(render_id=alone.pk)
        wanted = self.digests(alone)
        row = self.asked_for()
        with patch("metaphon.web.jobs.rendering.workers_alive", return_value=2):
            render_mix(render_id=row.pk)
        number = 0
        while waiting := self.queued():
            for part in waiting:
                number += 1
                with self.machine(f"worker {number}"):
                    render_part(part_id=part)
        self.assertGreater(number, 2)
        with self.machine("page"):
            self.assertEqual(self.digests(row), wanted)
            file = RenderFile.objects.filter(kind="audio").first()
            assert file is not None
            sent = self.client.get(self.url("handover:download", file.pk))
            self.assertEqual(sent["Content-Length"], str(file.bytes))
        self.assertFalse({name for name in self.held() if name.startswith("scratch")})
