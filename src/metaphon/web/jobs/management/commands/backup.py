"""bin/metaphon backup DIR: everything copied at one moment, while all goes on."""

from argparse import ArgumentParser
from pathlib import Path
from typing import Any

from django.core.management.base import BaseCommand, CommandError

from metaphon.core.errors import InputError
from metaphon.web.jobs.keeping import back_up, check_backup


class Command(BaseCommand):
    help = "Copy the database and all stored files into a folder, as they are at one moment."

    def add_arguments(self, parser: ArgumentParser) -> None:
        parser.add_argument("folder", type=Path, help="an empty folder, or that of a former backup")
        parser.add_argument(
            "--check", action="store_true", help="read a backup through; nothing is changed"
        )

    def handle(self, *args: Any, **options: Any) -> None:
        try:
            if options["check"]:
                told = check_backup(options["folder"])
                self.stdout.write(
                    f"The backup of {told['made_at']} is whole: {told['files']} files."
                )
                return
            told = back_up(options["folder"])
        except InputError as error:
            raise CommandError(str(error)) from None
        self.stdout.write(f"{told['files']} files, {told['bytes'] / 1e6:.0f} MB, and the database.")
        for name in told["missing"]:
            self.stdout.write(f"Storage lacks {name}.")
