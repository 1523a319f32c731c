"""Signing in: by name and password, and by a code where somebody has a second factor."""

import time
from typing import Any

from django.conf import settings
from django.contrib.auth import get_user_model, login, logout
from django.contrib.auth.decorators import login_not_required
from django.contrib.auth.forms import AuthenticationForm
from django.contrib.auth.views import LoginView
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render, resolve_url
from django.utils.http import url_has_allowed_host_and_scheme
from django.views.decorators.http import require_POST
from django_otp import login as mark_verified
from django_otp import match_token, user_has_device

from metaphon.web.audit.models import AuditEntry
from metaphon.web.audit.recording import record_event
from metaphon.web.people.credentials import credentials_digest
from metaphon.web.people.models import SessionRecord

_LONGEST_NAME = 150
_HALF = "half_signed_in"
_PATIENCE_S = 300.0


class SignInForm(AuthenticationForm):
    """A name and a password; a name longer than any is like one that is wrong."""

    def clean_username(self) -> str:
        name = str(self.cleaned_data["username"])
        if len(name) > _LONGEST_NAME:
            raise self.get_invalid_login_error()
        return name


class SignIn(LoginView):
    form_class = SignInForm
    template_name = "people/sign_in.html"
    redirect_authenticated_user = True

    def form_valid(self, form: AuthenticationForm) -> HttpResponse:
        user: Any = form.get_user()
        if not user_has_device(user):
            return super().form_valid(form)
        self.request.session[_HALF] = {
            "user": user.pk,
            "backend": user.backend,
            "at": time.time(),
            "credentials": credentials_digest(user),
            "next": self.get_success_url(),
        }
        return redirect("sign_in_code")

    def form_invalid(self, form: AuthenticationForm) -> HttpResponse:
        name = str(form.data.get("username", ""))
        record_event(AuditEntry.Kind.SIGN_IN_REFUSED, username=name)
        return super().form_invalid(form)

    def get_context_data(self, **kwargs: object) -> dict[str, object]:
        demo = (
            {"user": settings.DEMO_USER, "password": settings.DEMO_PASSWORD}
            if settings.DEMO
            else None
        )
        return super().get_context_data(demo=demo, **kwargs)


@login_not_required
def code(request: HttpRequest) -> HttpResponse:
    """Ask for the code of the second factor, soon after name and password were right."""
    half = request.session.get(_HALF)
    if not half or time.time() - half["at"] > _PATIENCE_S:
        return redirect("sign_in")
    refused = ""
    if request.method == "POST":
        user = get_user_model().objects.filter(pk=half["user"], is_active=True).first()
        text = "".join(request.POST.get("code", "").split())
        if user is None or half.get("credentials") != credentials_digest(user):
            return redirect("sign_in")  # the password has been changed since
        device = match_token(user, text)
        if device is not None:
            login(request, user, backend=half["backend"])
            mark_verified(request, device)
            request.session.pop(_HALF, None)
            aim = half["next"]
            here = url_has_allowed_host_and_scheme(aim, allowed_hosts={request.get_host()})
            return redirect(aim if here else resolve_url(settings.LOGIN_REDIRECT_URL))
        refused = "This code is not right now; wait for the next one and type it."
    return render(request, "people/code.html", {"refused": refused})


@require_POST
def sign_out(request: HttpRequest) -> HttpResponse:
    record_event(AuditEntry.Kind.SIGNED_OUT)
    SessionRecord.objects.filter(session_key=request.session.session_key or "").delete()
    logout(request)
    return redirect("sign_in")
