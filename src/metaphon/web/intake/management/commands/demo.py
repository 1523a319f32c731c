"""Puts the demo user and the demo mixes in the database, once."""

import tempfile
from pathlib import Path
from typing import Any

from django.conf import settings
from django.contrib.auth import get_user_model
from django.core.management.base import BaseCommand
from django.db import transaction

from metaphon.core.demo.mixes import write_demo
from metaphon.core.files.mixdoc import read, with_responses
from metaphon.core.spaces.shipped import FOLDER
from metaphon.web.mixes.models import AudioFile, Member, Mix
from metaphon.web.mixes.recordings import store
from metaphon.web.mixes.unpacking import unpack
from metaphon.web.storage import scratch


class Command(BaseCommand):
    help = "In demo mode, make the demo user and mixes where they are not there yet."

    @transaction.atomic
    def handle(self, *args: Any, **options: Any) -> None:
        if not settings.DEMO:
            return
        users = get_user_model()
        user = users.objects.filter(username=settings.DEMO_USER).first()
        if user is not None:
            return
        user = users.objects.create_user(settings.DEMO_USER, password=settings.DEMO_PASSWORD)
        with tempfile.TemporaryDirectory(dir=scratch()) as folder:
            self.stdout.write("Making the sounds of the demo (about half a minute).")
            for path in reversed(write_demo(Path(folder))):
                self._bring_in(path, user.pk)

    def _bring_in(self, path: Path, user_id: int) -> None:
        # the responses of its spaces ship: they need no copies
        document = with_responses(read(path), lambda file: FOLDER / file.name)
        mix = Mix.objects.create(title=document.title, sample_rate_hz=document.sample_rate_hz)
        Member.objects.create(mix=mix, user_id=user_id, role=Member.Role.OWNER)
        unpack(document, mix, lambda file: _stored(mix, file))


def _stored(mix: Mix, file: Path) -> AudioFile:
    """Store a copy: the demo mixes share their recordings."""
    copy = file.with_name(f"copy_{file.name}")
    copy.hardlink_to(file)
    return store(mix, copy, file.name)
