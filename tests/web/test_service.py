"""What keeps one person from stopping the others: bodies, shares of the disk, and what is swept."""

import asyncio
import errno
import os
import time
from datetime import timedelta
from pathlib import Path
from typing import Any
from unittest.mock import patch
from uuid import UUID

from asgiref.testing import ApplicationCommunicator
from django.conf import settings
from django.contrib.sessions.models import Session
from django.db import OperationalError
from django.test import TransactionTestCase, override_settings
from django.urls import reverse
from django.utils.timezone import now

from metaphon.core.errors import DISK_FULL
from metaphon.web.intake.models import Arrival
from metaphon.web.jobs.models import Render
from metaphon.web.jobs.sweeping import sweep
from metaphon.web.jobs.tasks import render_mix
from metaphon.web.mixes.access import carries_token, new_token
from metaphon.web.mixes.models import AudioFile, JournalEntry, Member, Mix
from metaphon.web.mixes.space import held_bytes, room_bytes
from metaphon.web.shell import bodies
from metaphon.web.shell.bodies import MEGABYTE, STRANGER_BYTES, Bodies
from tests.sounds import noise
from tests.web.base import WebTest, make_user, recording

_DAY_S = 86_400


async def _reads(scope: Any, receive: Any, send: Any) -> None:
    """What stands behind: reads the whole body and says how long it was."""
    length, more = 0, True
    while more:
        message = await receive()
        length, more = length + len(message.get("body", b"")), message.get("more_body", False)
    await send({"type": "http.response.start", "status": 200, "headers": []})
    await send({"type": "http.response.body", "body": str(length).encode()})


class WhatIsSent(TransactionTestCase):
    def setUp(self) -> None:
        self.user = make_user("ada")
        self.client.force_login(self.user)
        cookie = self.client.cookies[settings.SESSION_COOKIE_NAME].value
        self.signed_in = {"cookie": f"theme=dim; {settings.SESSION_COOKIE_NAME}={cookie}"}

    def send(
        self, path: str, *pieces: bytes, length: int | None = None, **headers: str
    ) -> tuple[int, str]:
        """Send a request in pieces; gives the status and the body of the answer."""
        if length is not None:
            headers["content-length"] = str(length)
        scope = {
            "type": "http",
            "path": path,
            "headers": [(k.encode(), v.encode()) for k, v in headers.items()],
        }

        async def asked() -> tuple[int, str]:
            talk = ApplicationCommunicator(Bodies(_reads, carries_token), scope)
            for piece in pieces:
                await talk.send_input({"type": "http.request", "body": piece, "more_body": True})
            if length is None or sum(map(len, pieces)) == length:
                await talk.send_input({"type": "http.request", "body": b"", "more_body": False})
            start = await talk.receive_output(3)
            return start["status"], (await talk.receive_output(3))["body"].decode()

        return asyncio.run(asked())

    def test_a_stranger_sends_a_name_and_a_password_and_no_more(self) -> None:
        self.assertEqual(self.send("/sign-in", b"x" * 900, length=900), (200, "900"))
        status, said = self.send("/sign-in", length=600 * MEGABYTE)
        self.assertEqual(status, 403)
        self.assertIn("Sign in before", said)
        lied = self.send("/sign-in", *[b"x" * STRANGER_BYTES] * 2, length=10)
        self.assertEqual(lied[0], 413)
        unsaid = {"transfer-encoding": "chunked"}
        self.assertEqual(self.send("/sign-in", b"x", **unsaid)[0], 403)
        forged = {"cookie": f"{settings.SESSION_COOKIE_NAME}=abcdefgh"}
        self.assertEqual(self.send("/mixes/new", length=MEGABYTE, **forged)[0], 403)

    def test_each_address_says_how_much_it_takes(self) -> None:
        arrival = "/mix/1/intake/arrivals/00000000-0000-0000-0000-000000000000"
        for path, most in (
            ("/mix/1/flow/edit", 4),
            (arrival, 9),
            ("/mix/1/listen/file/head", 64),
            ("/mix/1/lanes/strip/gull/bring", 6),
        ):
            over = self.send(path, length=most * MEGABYTE + 1, **self.signed_in)
            self.assertEqual(over[0], 413, path)
            self.assertIn(f"the {most} MB that may be sent here", over[1])
        piece = b"x" * MEGABYTE
        within = self.send(arrival, *[piece] * 8, length=8 * MEGABYTE, **self.signed_in)
        self.assertEqual(within, (200, str(8 * MEGABYTE)))
        unsaid = {"transfer-encoding": "chunked", **self.signed_in}
        self.assertEqual(self.send("/mix/1/flow/edit", *[piece] * 5, **unsaid)[0], 413)
        self.assertEqual(self.send("/no/such/place", length=MEGABYTE, **self.signed_in)[0], 413)

    def test_a_script_signs_in_by_its_token(self) -> None:
        token = {"authorization": f"Bearer {new_token(self.user, 'mine')}"}
        body = b"x" * MEGABYTE
        self.assertEqual(self.send("/api/mix/1/edits", body, length=MEGABYTE, **token)[0], 200)
        wrong = {"authorization": "Bearer mine"}
        self.assertEqual(self.send("/api/mix/1/edits", length=MEGABYTE, **wrong)[0], 403)

    def test_what_does_not_go_on_is_given_up(self) -> None:
        with patch.object(bodies, "_PATIENCE_S", 0.2):
            status, said = self.send("/sign-in", b"x", length=900)
        self.assertEqual((status, said), (408, "This was sent too slowly; send it again."))

    def test_a_page_is_told_as_a_passing_message(self) -> None:
        async def answered() -> dict[bytes, bytes]:
            headers = [(b"content-length", b"99999999"), (b"hx-request", b"true")]
            scope = {"type": "http", "path": "/mixes/new", "headers": headers}
            talk = ApplicationCommunicator(Bodies(_reads, carries_token), scope)
            return dict((await talk.receive_output(3))["headers"])

        headers = asyncio.run(answered())
        self.assertIn(b"Sign in before", headers[b"hx-trigger"])
        self.assertEqual(headers[b"hx-reswap"], b"none")


class Room(WebTest):
    def test_mix_person_and_disk_each_have_their_share(self) -> None:
        with override_settings(MIX_BYTES=1000, PERSON_BYTES=1500):
            self.assertEqual(self.announce("a.wav", 800).status_code, 201)
            refused = self.announce("a.wav", 300)
            self.assertEqual(refused.status_code, 422)
            self.assertContains(refused, "room for 0 MB in this mix", status_code=422)
            Arrival.objects.update(status=Arrival.Status.FAILED)  # what was refused holds nothing
            self.assertEqual(self.announce("a.wav", 300).status_code, 201)
            other = Mix.objects.create(title="Other")
            Member.objects.create(mix=other, user=self.user, role="owner")
            AudioFile.objects.create(
                mix=other, name="a", channels=1, frames=1, source_rate_hz=1, bytes=1100
            )
            self.assertEqual(room_bytes(self.mix), 100)
        with override_settings(RESERVED_BYTES=10**18):
            self.assertEqual(self.announce("a.wav", 1).status_code, 422)

    def test_what_is_held_is_counted_and_shown(self) -> None:
        self.bring_in("a.wav", noise(1, 0.5))
        [row] = AudioFile.objects.all()
        self.assertEqual(row.bytes, row.file.size)
        self.upload("b.wav", recording(noise(2, 0.5), "WAV", 44100))
        both = AudioFile.objects.order_by("pk").last()
        assert both is not None
        sizes = [file.size for file in (both.file, both.original)]
        self.assertEqual(both.bytes, sum(sizes))
        self.assertEqual(held_bytes(Mix.objects.all()), row.bytes + both.bytes)
        self.assertContains(self.client.get(reverse("mixes")), "You hold 0 MB of 1 TB")

    def test_what_grows_by_conversion_is_told_and_counted_first(self) -> None:
        quiet = recording(noise(1, 20.0) * 0.0, "FLAC", 44100)
        with override_settings(MIX_BYTES=3_000_000):
            row = self.upload("silence.flac", quiet)
            self.assertEqual(row.status, "failed")
            self.assertRegex(row.message, "takes 0.0 GB once it is at 48000 Hz, and there is room")
            self.assertFalse(AudioFile.objects.exists())
        row = self.upload("silence.flac", quiet)
        self.assertRegex(row.message, r"takes 0.00 GB here, \d\d+ times its own size")


class FullDisk(WebTest):
    def test_it_is_said_in_the_page(self) -> None:
        full = OSError(errno.ENOSPC, "No space left on device")
        with (
            patch("metaphon.web.mixes.journal.apply", side_effect=full),
            self.assertLogs("django.request", "ERROR"),
        ):
            answer = self.edit("flow", kind="add_bus", name="Hall")
        self.assertEqual(answer.status_code, 507)
        self.assertIn(DISK_FULL, answer.headers["HX-Trigger"])

    def test_that_of_the_database_too(self) -> None:
        class Full(Exception):
            sqlstate = "53100"

        error = OperationalError("could not extend file")
        error.__cause__ = Full()
        with (
            patch("metaphon.web.mixes.journal.apply", side_effect=error),
            self.assertLogs("django.request", "ERROR"),
        ):
            self.assertEqual(self.edit("flow", kind="add_bus", name="Hall").status_code, 507)

    def test_and_in_the_job(self) -> None:
        self.bring_in("a.wav", noise(1, 0.2))
        row = Render.objects.create(mix=self.mix, user=self.user, revision=1, options={})
        full = OSError(errno.ENOSPC, "No space left on device")
        with patch("metaphon.web.jobs.rendering.run", side_effect=full):
            render_mix(render_id=row.pk)
        row.refresh_from_db()
        self.assertEqual((row.status, row.message), ("failed", DISK_FULL))


class Sweeping(WebTest):
    def test_what_nobody_needs_is_given_back_and_nothing_else(self) -> None:
        self.bring_in("a.wav", noise(1, 0.2))
        kept = AudioFile.objects.get()
        root, scratch = Path(settings.MEDIA_ROOT), Path(settings.MEDIA_ROOT) / "scratch"
        lost = root / f"mixes/{self.mix.pk}/recordings/lost.wav"
        young = root / f"mixes/{self.mix.pk}/recordings/young.wav"
        gone = root / "mixes/99999999/renders/1/gone.wav"
        broken = scratch / "render_7_abc/out.wav"
        for path in (lost, young, gone, broken):
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(b"x")
        old = time.time() - 2 * _DAY_S
        for path in (lost, gone, broken, broken.parent, Path(kept.file.path)):
            os.utime(path, (old, old))
        waiting, given_up = (
            Arrival.objects.create(
                mix=self.mix, user=self.user, key=UUID(int=n), name="a", length=9
            )
            for n in (1, 2)
        )
        piece = scratch / "piece"
        piece.write_bytes(b"part")
        here, went = (root / row.folder / f"{0:016d}" for row in (waiting, given_up))
        for row, path in ((waiting, here), (given_up, went)):
            row.take(piece)
            os.utime(path, (old, old))
        Arrival.objects.filter(pk=given_up.pk).update(created_at=now() - timedelta(days=8))
        Session.objects.create(session_key="old", expire_date=now() - timedelta(days=1))
        sweep()
        for path in (lost, gone, broken, broken.parent, gone.parents[2], went, went.parent):
            self.assertFalse(path.exists(), path)
        for path in (young, Path(kept.file.path), here):
            self.assertTrue(path.exists(), path)
        self.assertFalse(Session.objects.filter(session_key="old").exists())


class LongLists(WebTest):
    def test_mixes_come_in_pages(self) -> None:
        values = self.mix.values
        many = Mix.objects.bulk_create(Mix(title=f"Pier {n:03d}", values=values) for n in range(90))
        Member.objects.bulk_create(Member(mix=m, user=self.user, role="owner") for m in many)
        first = self.client.get(reverse("mixes"), {"sort": "name", "q": "pier 0"})
        self.assertContains(first, "1 to 40 of 90")
        self.assertContains(first, "sort=name&amp;q=pier+0&amp;page=2")
        last = self.client.get(reverse("mixes"), {"sort": "name", "q": "pier 0", "page": "3"})
        self.assertContains(last, "Pier 089")
        self.assertNotContains(last, "Next page")
        self.assertContains(self.client.get(reverse("mixes"), {"page": "²"}), "1 to 40 of 91")

    def test_all_of_the_history_is_within_reach(self) -> None:
        JournalEntry.objects.bulk_create(
            JournalEntry(mix=self.mix, user=self.user, revision=n, what=f"Edit {n}.", changes=[])
            for n in range(1, 151)
        )
        last = self.mix.journal.get(revision=150)
        Mix.objects.filter(pk=self.mix.pk).update(revision=150, state=last.pk)
        self.mix.journal.filter(revision=7).update(name="As it came")
        seen, address = [], self.url("history")
        pages = 0
        while address:
            page = self.client.get(address, headers={"HX-Request": "true"}).content.decode()
            seen += [n for n in range(1, 151) if f"<span>Edit {n}.</span>" in page]
            found = page.partition("?before=")[2].partition('"')[0]
            address = f"{self.url('history')}?before={found}" if found else ""
            pages += 1
        self.assertEqual(sorted(set(seen)), list(range(1, 151)))
        self.assertEqual(seen.count(7), 2)  # named, so at once, and where it belongs
        self.assertEqual(pages, 3)
        self.assertIn("The beginning", page)

    def test_pages_are_packed_and_files_are_not(self) -> None:
        packing = {"Accept-Encoding": "gzip"}
        page = self.client.get(reverse("mixes"), headers=packing)
        self.assertEqual(page.headers["Content-Encoding"], "gzip")
