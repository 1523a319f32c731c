"""The pages of mixes: the list, making and naming them, who takes part, and their history."""

import json

from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST

from metaphon.core.edits.structure import RenameMix
from metaphon.core.errors import InputError
from metaphon.web.audit.models import AuditEntry
from metaphon.web.audit.recording import record_event
from metaphon.web.mixes import journal
from metaphon.web.mixes.access import new_token
from metaphon.web.mixes.editing import editing
from metaphon.web.mixes.listing import listing
from metaphon.web.mixes.making import RATES_HZ, begin, beginnings, copy_of
from metaphon.web.mixes.membership import remove_member, set_role
from metaphon.web.mixes.models import AccessToken, EventAddress, Member
from metaphon.web.mixes.permissions import changes_mix, mix_for, owned
from metaphon.web.mixes.removing import delete_mix


def mixes(request: HttpRequest) -> HttpResponse:
    """Every mix this person takes part in, and what a new one may begin with."""
    context = listing(request)
    if request.headers.get("HX-Target") == "mixes":
        return render(request, "mixes/rows.html", {**context, "roles": Member.Role.choices})
    context |= {
        "rates_hz": RATES_HZ,
        "roles": Member.Role.choices,
        "tokens": AccessToken.objects.filter(user=request.user.pk),
        "addresses": EventAddress.objects.filter(user=request.user.pk),
    }
    return render(request, "mixes/list.html", {**context, "beginnings": beginnings(request)})


@require_POST
def create(request: HttpRequest) -> HttpResponse:
    """Make a mix, empty, from a starting mix or like one of one's own."""
    title = request.POST.get("title", "").strip()[:120]
    if not title:
        raise InputError("A mix needs a name; type one.")
    rate = request.POST.get("sample_rate_hz", "48000")
    if rate not in map(str, RATES_HZ):
        raise InputError(f"The sample rate may be {', '.join(map(str, RATES_HZ))} Hz.")
    mix = begin(request, title, int(rate), request.POST.get("begin", ""))
    return redirect("intake:show", mix.pk)


@require_POST
def duplicate(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Make another mix of one, with its recordings; the history begins anew."""
    copy_of(request, mix_for(request, mix_id))
    return redirect("mixes")


@require_POST
def put_away(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Take a mix out of one's own list, or put it back; nothing else is changed."""
    mix = mix_for(request, mix_id)
    mix.members.filter(user=request.user.pk).update(put_away="back" not in request.POST)
    return redirect("mixes")


def open_mix(request: HttpRequest, mix_id: int) -> HttpResponse:
    mix = mix_for(request, mix_id)
    return redirect("flow:show" if mix.strips.exists() else "intake:show", mix.pk)


@require_POST
def make_token(request: HttpRequest) -> HttpResponse:
    """Make a token for scripts; it is shown this once."""
    name = request.POST.get("name", "").strip()[:120]
    if not name:
        raise InputError("A token needs a name, so that you know it again; type one.")
    token = new_token(request.user, name)
    record_event(AuditEntry.Kind.TOKEN_MADE, details=name)
    return render(request, "mixes/token.html", {"name": name, "token": token})


@require_POST
def forget_token(request: HttpRequest, token_id: int) -> HttpResponse:
    """Take a token away; scripts that use it are refused from now on."""
    token = get_object_or_404(AccessToken, pk=token_id, user=request.user.pk)
    token.delete()
    record_event(AuditEntry.Kind.TOKEN_REMOVED, details=token.name)
    return redirect("mixes")


@require_POST
def remove(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Delete a mix for good; its title must have been typed."""
    mix = owned(request, mix_id)
    if request.POST.get("title", "").strip() != mix.title:
        raise InputError(
            f"Type the name of the mix, {mix.title}, to delete it. Nothing was deleted."
        )
    record_event(AuditEntry.Kind.MIX_DELETED, mix=mix)
    delete_mix(mix)
    return redirect("mixes")


@changes_mix
def rename(request: HttpRequest, mix_id: int) -> HttpResponse:
    mix = mix_for(request, mix_id)
    journal.apply(mix, request.user, RenameMix(title=request.POST.get("title", "")[:120]))
    return redirect("mixes")


@require_POST
def members(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Change what a member may do, or take them out (role empty)."""
    mix = owned(request, mix_id)
    name, role = request.POST.get("username", "").strip(), request.POST.get("role", "")
    member = mix.members.select_related("user").filter(user__username=name).first()
    if member is None:
        raise InputError(f"{name or 'Nobody'} takes no part in this mix; check the name.")
    if member.user_id == request.user.pk:
        raise InputError("You own this mix; let another owner change your part in it.")
    if role and role not in Member.Role.values:
        raise InputError("Choose owner, editor or listener.")
    if role:
        set_role(mix, member.user, role)
    else:
        remove_member(mix, member.user)
    return redirect("mixes")


@require_POST
def leave(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Take part no longer; the last owner stays."""
    remove_member(mix_for(request, mix_id), request.user)
    return redirect("mixes")


@changes_mix
def step(request: HttpRequest, mix_id: int, kind: str) -> HttpResponse:
    mix = mix_for(request, mix_id)
    entry = (journal.undo if kind == "undo" else journal.redo)(mix, request.user)
    message = f"{'Undid' if kind == 'undo' else 'Did again'}: {entry.what}"
    response = render(request, "shell/history_buttons.html", {**editing(request, mix), "oob": True})
    response["HX-Trigger"] = json.dumps(
        {"say": {"message": message}, "mix-changed": True, "mix-edited": True}
    )
    return response
