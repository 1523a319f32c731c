"""Addresses of people's own that are told of events: given, tried and taken away."""

from django.contrib.auth import get_user_model
from django.db import transaction
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST

from metaphon.core.errors import InputError
from metaphon.web.mixes import events
from metaphon.web.mixes.models import EventAddress
from metaphon.web.mixes.posting import checked

_MOST = 10  # of one person


@require_POST
def make(request: HttpRequest) -> HttpResponse:
    """Keep an address; the secret that messages to it are signed with is shown this once."""
    url = checked(request.POST.get("url", "").strip())
    with transaction.atomic():
        owner = get_user_model().objects.select_for_update().get(pk=request.user.pk or 0)
        if EventAddress.objects.filter(user=owner).count() >= _MOST:
            raise InputError(f"You have {_MOST} addresses, which is the most; take one away first.")
        secret = events.new_address(owner.pk, url)
    context = {"url": url, "secret": secret, "kinds": events.KINDS}
    return render(request, "mixes/address.html", context)


@require_POST
def try_out(request: HttpRequest, address_id: int) -> HttpResponse:
    """Send a message that says nothing but that the address is tried."""
    events.send(_own(request, address_id), events.TRIED, {})
    return redirect("mixes")


@require_POST
def forget(request: HttpRequest, address_id: int) -> HttpResponse:
    """Tell an address nothing any more."""
    _own(request, address_id).delete()
    return redirect("mixes")


def _own(request: HttpRequest, address_id: int) -> EventAddress:
    return get_object_or_404(EventAddress, pk=address_id, user=request.user.pk)
