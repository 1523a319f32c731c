"""Where somebody is signed in: kept for each session, shown, and ended one by one."""

import ipaddress
import time
from collections.abc import Callable
from datetime import timedelta
from importlib import import_module
from typing import Any

from django.conf import settings
from django.contrib.auth.signals import user_logged_in
from django.db.models import QuerySet
from django.dispatch import receiver
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect
from django.utils.timezone import now
from django.views.decorators.http import require_POST

from metaphon.web.audit.models import AuditEntry
from metaphon.web.audit.recording import record_event
from metaphon.web.people.mail import send_to
from metaphon.web.people.models import SessionRecord

_NOTE_EVERY_S = 60.0
_REMEMBERED = timedelta(days=180)  # how long a place counts as known
_MOST_NOTED = 10_000
_BROWSERS = ("Firefox", "Edg", "OPR", "Chrome", "Safari")  # in this order: each names those after
_SYSTEMS = ("Windows", "Android", "iPhone", "iPad", "Macintosh", "Linux")
_noted_at: dict[str, float] = {}  # when this process last wrote that a session is in use


def end_sessions(records: QuerySet[SessionRecord]) -> int:
    """End the sessions of some records; gives how many."""
    keys = list(records.values_list("session_key", flat=True))
    store = import_module(settings.SESSION_ENGINE).SessionStore
    for key in keys:
        store(key).delete()
    records.delete()
    return len(keys)


def note_session(get_response: Callable[[HttpRequest], HttpResponse]) -> Any:
    """Middleware that writes down, once a minute, from where a session is in use."""

    def answered(request: HttpRequest) -> HttpResponse:
        response = get_response(request)
        key = request.session.session_key
        if key and request.user.is_authenticated:
            before = _noted_at.get(key, -_NOTE_EVERY_S)
            if time.monotonic() - before >= _NOTE_EVERY_S:
                if len(_noted_at) >= _MOST_NOTED:
                    _noted_at.clear()
                _noted_at[key] = time.monotonic()
                _note(request, request.user, key)
        return response

    return answered


def _note(request: HttpRequest, user: Any, key: str, **more: object) -> None:
    place = {"address": request.META.get("REMOTE_ADDR") or None, "browser": browser_of(request)}
    SessionRecord.objects.update_or_create(
        session_key=key, defaults={"user": user, "last_at": now(), **place, **more}
    )


def browser_of(request: HttpRequest) -> str:
    """The browser and system of a request in words, such as "Firefox, Linux"; "" if unknown."""
    agent = request.headers.get("User-Agent", "")
    browser = next((name for name in _BROWSERS if name in agent), "")
    system = next((name for name in _SYSTEMS if name in agent), "")
    named = {"Edg": "Edge", "OPR": "Opera"}.get(browser, browser)
    return ", ".join(word for word in (named, system.replace("Macintosh", "macOS")) if word)


@receiver(user_logged_in)
def _keep_sign_in(request: HttpRequest, user: Any, **_: object) -> None:
    """Write a sign-in down, and tell of one from a place that is new."""
    is_new = not _is_known_place(request, user)
    record_event(AuditEntry.Kind.SIGNED_IN, user=user, details=browser_of(request))
    key = request.session.session_key
    if key is None:
        return
    _note(request, user, key, began_at=now(), is_new_place=is_new)
    if is_new:
        where = ", ".join(filter(None, (request.META.get("REMOTE_ADDR"), browser_of(request))))
        send_to(
            user,
            "A sign-in from a new place",
            f"Somebody signed in to Metaphon as {user.get_username()} from {where}.\n\n"
            "If that was you, nothing needs to be done. If not, open Account, end that session "
            "and change your password.",
        )


def _is_known_place(request: HttpRequest, user: Any) -> bool:
    """Whether this network was signed in from before; nothing is new at the very first time."""
    earlier = AuditEntry.objects.filter(
        kind=AuditEntry.Kind.SIGNED_IN, user_id=user.pk, at__gte=now() - _REMEMBERED
    )
    addresses = set(earlier.exclude(address=None).values_list("address", flat=True))
    here = _network_of(request.META.get("REMOTE_ADDR") or "")
    return not addresses or here in {_network_of(address or "") for address in addresses}


def _network_of(address: str) -> str:
    """The network that a provider gives to one place: /24 of IPv4, /48 of IPv6."""
    try:
        bits = 24 if ipaddress.ip_address(address).version == 4 else 48
    except ValueError:
        return ""
    return str(ipaddress.ip_network(f"{address}/{bits}", strict=False))


@require_POST
def end_session(request: HttpRequest, session_id: int) -> HttpResponse:
    """End one of one's own sessions; the one that asks is ended by signing out."""
    record = get_object_or_404(SessionRecord, pk=session_id, user=request.user.pk)
    end_sessions(SessionRecord.objects.filter(pk=record.pk))
    record_event(AuditEntry.Kind.SESSION_ENDED, details=f"{record.browser} {record.address or ''}")
    return redirect("account")


@require_POST
def know_places(request: HttpRequest) -> HttpResponse:
    """Say that the other sign-ins from new places were one's own; none says so of itself."""
    elsewhere = SessionRecord.objects.exclude(session_key=request.session.session_key or "")
    elsewhere.filter(user=request.user.pk).update(is_new_place=False)
    return redirect("account")


def sessions_of(request: HttpRequest) -> list[SessionRecord]:
    """The sessions of the person who asks that are still open, this one first."""
    store = import_module(settings.SESSION_ENGINE).SessionStore
    records = list(SessionRecord.objects.filter(user=request.user.pk))
    gone = [
        record.pk for record in records if not store(record.session_key).exists(record.session_key)
    ]
    SessionRecord.objects.filter(pk__in=gone).delete()
    here = request.session.session_key
    left = [record for record in records if record.pk not in gone]
    return sorted(left, key=lambda record: record.session_key != here)
