"""bin/metaphon restore DIR: an installation made what it was when a backup was made."""

from argparse import ArgumentParser
from pathlib import Path
from typing import Any

from django.core.management.base import BaseCommand, CommandError

from metaphon.core.errors import InputError
from metaphon.web.jobs.keeping import restore


class Command(BaseCommand):
    help = "Put a backup into this installation, with nothing of it running."
    requires_migrations_checks = False

    def add_arguments(self, parser: ArgumentParser) -> None:
        parser.add_argument("folder", type=Path, help="the folder that backup was given")
        parser.add_argument(
            "--replace", action="store_true", help="even where there is something already"
        )

    def handle(self, *args: Any, **options: Any) -> None:
        try:
            told = restore(options["folder"], replace=options["replace"])
        except InputError as error:
            raise CommandError(str(error)) from None
        self.stdout.write(f"This is as it was on {told['made_at']}, with {told['files']} files.")
