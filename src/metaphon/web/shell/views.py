"""Signing in and out."""

from django.conf import settings
from django.contrib.auth import logout
from django.contrib.auth.forms import AuthenticationForm
from django.contrib.auth.views import LoginView
from django.http import HttpRequest, HttpResponse, HttpResponseBase
from django.shortcuts import redirect, render
from django.views.decorators.http import require_POST

_LONGEST_NAME = 150


class SignInForm(AuthenticationForm):
    """A name and a password; a name longer than any is like one that is wrong."""

    def clean_username(self) -> str:
        name = str(self.cleaned_data["username"])
        if len(name) > _LONGEST_NAME:
            raise self.get_invalid_login_error()
        return name


class SignIn(LoginView):
    form_class = SignInForm
    template_name = "shell/sign_in.html"
    redirect_authenticated_user = True

    def get_context_data(self, **kwargs: object) -> dict[str, object]:
        demo = (
            {"user": settings.DEMO_USER, "password": settings.DEMO_PASSWORD}
            if settings.DEMO
            else None
        )
        return super().get_context_data(demo=demo, **kwargs)


@require_POST
def sign_out(request: HttpRequest) -> HttpResponse:
    logout(request)
    return redirect("sign_in")


def forgery_refused(request: HttpRequest, reason: str = "") -> HttpResponseBase:
    """What a form that has gone stale gets (its page was open across a sign-in or restart)."""
    message = "This page has been open too long to be sent; reload it and try again."
    return render(request, "shell/plain_words.html", {"message": message}, status=403)
