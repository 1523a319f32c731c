"""Stops guessing: many passwords for one name, and one password for many names."""

from typing import Any

from axes.attempts import get_cool_off_threshold
from axes.handlers.database import AxesDatabaseHandler
from axes.helpers import get_client_ip_address
from axes.models import AccessAttempt
from django.conf import settings
from django.db.models import Sum
from django.http import HttpRequest


class Guessing(AxesDatabaseHandler):  # type: ignore[misc]  # without types
    """Counts what failed from an address over all names, beside what is counted a name."""

    def is_locked(self, request: HttpRequest, credentials: Any = None) -> bool:
        if super().is_locked(request, credentials):
            return True
        recent = AccessAttempt.objects.filter(
            ip_address=get_client_ip_address(request),
            attempt_time__gte=get_cool_off_threshold(request),
        )
        failed = recent.aggregate(all=Sum("failures_since_start"))["all"] or 0
        if failed < settings.ADDRESS_FAILURE_LIMIT:
            return False
        request.axes_locked_out = True  # type: ignore[attr-defined]  # so that the answer says it
        return True
