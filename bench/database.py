"""The database made ready for cases that need it."""

import os


def ready() -> None:
    """Set Django up on the database that `bin/bench` has started, its tables made where there are
    none.
    """
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "metaphon.web.settings")
    import django

    django.setup()
    from django.core.management import call_command

    call_command("migrate", verbosity=0)
