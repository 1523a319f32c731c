"""What is done once when the program begins."""

from django.apps import AppConfig
from django.core.files.storage import storages


class Mixes(AppConfig):
    name = "metaphon.web.mixes"

    def ready(self) -> None:
        """Know from the start how files are brought to this machine, before any is asked for."""
        storages["default"]
