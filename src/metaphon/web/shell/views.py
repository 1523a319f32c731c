"""What the shell itself answers."""

from django.http import HttpRequest, HttpResponseBase
from django.shortcuts import render


def forgery_refused(request: HttpRequest, reason: str = "") -> HttpResponseBase:
    """What a form that has gone stale gets (its page was open across a sign-in or restart)."""
    message = "This page has been open too long to be sent; reload it and try again."
    return render(request, "shell/plain_words.html", {"message": message}, status=403)
