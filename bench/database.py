"""The database made ready for cases that need it."""

import os
from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from django.test import Client

    from metaphon.core.document.mix import Mix as Document
    from metaphon.web.mixes.models import Mix


def ready() -> None:
    """Set Django up on the database that `bin/bench` has started, its tables made where there are
    none.
    """
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "metaphon.web.settings")
    import django

    django.setup()
    from django.core.management import call_command

    call_command("migrate", verbosity=0)


@contextmanager
def rolled_back() -> Iterator[None]:
    """A database to write to; nothing of it stays."""
    ready()
    from django.conf import settings
    from django.db import transaction

    settings.ALLOWED_HOSTS = ["testserver"]
    with transaction.atomic():
        yield
        transaction.set_rollback(True)


def stored(document: "Document") -> tuple["Mix", "Client"]:
    """A mix made of a document, its recordings all the same one, and its owner signed in."""
    from django.contrib.auth import get_user_model
    from django.test import Client

    from metaphon.web.mixes.models import AudioFile, Member, Mix
    from metaphon.web.mixes.unpacking import unpack

    user = get_user_model().objects.create(username="bench")
    mix = Mix.objects.create(title="Large")
    Member.objects.create(mix=mix, user=user, role="owner")
    audio = AudioFile.objects.create(
        mix=mix, name="a", file="none.wav", channels=1, frames=48000, source_rate_hz=48000
    )
    unpack(document, mix, lambda file: audio)
    client = Client()
    client.force_login(user)
    return mix, client
