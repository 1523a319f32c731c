"""What follows by itself from an edit."""

from typing import Any

from django.apps import AppConfig


class Jobs(AppConfig):
    name = "metaphon.web.jobs"

    def ready(self) -> None:
        """Have each mix listened to that has changed, whoever changed it."""
        from metaphon.web.jobs.tasks import ask_for_survey
        from metaphon.web.mixes.journal import edited

        def listen(mix: Any, **rest: Any) -> None:
            ask_for_survey(mix)

        edited.connect(listen, weak=False)
