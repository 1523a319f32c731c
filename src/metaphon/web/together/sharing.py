"""Links for those without an account: they listen to a mix or a handover, and that is all."""

from collections.abc import Mapping
from datetime import timedelta
from typing import Any

from django.contrib.auth.decorators import login_not_required
from django.contrib.auth.hashers import make_password
from django.db.models import F
from django.http import Http404, HttpRequest, HttpResponse, HttpResponseBase
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.utils.http import content_disposition_header
from django.utils.timezone import now
from django.views.decorators.http import require_POST

from metaphon.core.document.targets import target_named
from metaphon.core.engine.plan import length_frames
from metaphon.core.errors import InputError
from metaphon.web.audit.models import AuditEntry
from metaphon.web.audit.recording import record_event
from metaphon.web.jobs.models import Render, RenderFile, Work
from metaphon.web.jobs.rendering import begins_s
from metaphon.web.mixes import events
from metaphon.web.mixes.editing import editing
from metaphon.web.mixes.membership import alone_with
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.permissions import changes_mix, mix_for
from metaphon.web.mixes.snapshots import document_of
from metaphon.web.mixes.watch import tell
from metaphon.web.shell.fragments import fragment_of
from metaphon.web.shell.password_pool import check_in_turn
from metaphon.web.shell.posted import number_in
from metaphon.web.shell.secrets import digest_of, new_secret
from metaphon.web.shell.streaming import send_file
from metaphon.web.together.models import MOST_WORDS, Remark, Share
from metaphon.web.together.remarks import time_in, words_of

_DAYS = {1: "A day", 7: "A week", 30: "A month", 365: "A year"}
_MOST = 100  # of one mix
_MOST_CHANNELS = 8  # that a browser plays out of a file
_LIVE = "live"  # what a link leads to
_OPEN = "shares_open"  # of which the password was right
_SEEN = "shares_seen"  # that were opened in this session
_MADE = "shares_remarks"  # those made in this session
_NAME = "shares_name"  # what whoever is here is called
_MOST_REMARKS = 500  # by links, of one mix
_KINDS = {"wav": "audio/wav", "flac": "audio/flac"}


@fragment_of("handover:show")
def show(request: HttpRequest, mix_id: int) -> HttpResponse:
    """The links of a mix, for those who may change it, and the form for another."""
    return _drawn(request, mix_for(request, mix_id))


def _drawn(request: HttpRequest, mix: Mix, **more: object) -> HttpResponse:
    handovers = mix.renders.filter(status=Work.Status.DONE)
    context = {
        **editing(request, mix),
        "shares": mix.shares.select_related("render", "made_by"),
        "handovers": handovers[:20],
        "days": _DAYS.items(),
        **more,
    }
    return render(request, "together/shares.html", context)


@changes_mix
def make(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Make a link; it is shown this once."""
    mix = mix_for(request, mix_id)
    days = number_in(request.POST.get("days", ""))
    if days not in _DAYS:
        raise InputError("Choose how long the link lasts from the list.")
    wanted = request.POST.get("render", "")
    live = wanted == _LIVE
    row = None
    if wanted and not live:
        row = get_object_or_404(mix.renders, pk=number_in(wanted) or 0)
    text, digest = new_secret()
    password = request.POST.get("password", "")
    name = request.POST.get("name", "").strip()[:120]
    with alone_with(mix):
        if mix.shares.count() >= _MOST:
            raise InputError(f"A mix has at most {_MOST} links; take some back first.")
        Share.objects.create(
            mix=mix,
            render=row,
            live=live,
            made_by_id=int(request.user.pk or 0),
            name=name,
            digest=digest,
            password=make_password(password) if password else "",
            remarks="remarks" in request.POST,
            downloads="downloads" in request.POST and not live,
            ends_at=now() + timedelta(days=days),
        )
        record_event(AuditEntry.Kind.LINK_MADE, mix=mix, details=name)
    address = request.build_absolute_uri(reverse("shared", args=[text]))
    return _drawn(request, mix, address=address)


@changes_mix
def revoke(request: HttpRequest, mix_id: int, number: int) -> HttpResponse:
    """Take a link back; who has it is refused from now on."""
    mix = mix_for(request, mix_id)
    share = get_object_or_404(mix.shares, pk=number)
    share.delete()
    record_event(AuditEntry.Kind.LINK_REVOKED, mix=mix, details=share.name)
    return _drawn(request, mix)


def _open_share(text: str) -> Share | None:
    row = Share.objects.select_related("mix", "render").filter(digest=digest_of(text)).first()
    return row if row is not None and row.is_open else None


def _handover(share: Share) -> Render | None:
    if share.live:
        return None
    done = share.mix.renders.filter(status=Work.Status.DONE)
    return done.filter(pk=share.render_id).first() if share.render_id else done.first()


def _is_in(session: Mapping[str, Any], share: Share) -> bool:
    return not share.password or share.pk in session.get(_OPEN, [])


def live_by(text: str, session: Mapping[str, Any]) -> Share | None:
    """The link to a mix itself that a text opens for a session; None where it opens none."""
    row = _open_share(text)
    return row if row is not None and row.live and _is_in(session, row) else None


@login_not_required
def shared(request: HttpRequest, text: str) -> HttpResponse:
    """What a link leads to: a page to listen on, after its password where it has one."""
    share = _open_share(text)
    if share is None:
        return render(request, "together/shared.html", {"over": True}, status=410)
    refused = ""
    if request.method == "POST" and not _is_in(request.session, share):
        if check_in_turn(request.POST.get("password", ""), share.password):
            request.session[_OPEN] = [*request.session.get(_OPEN, []), share.pk]
            Share.objects.filter(pk=share.pk).update(wrong=0)
            return redirect("shared", text)
        Share.objects.filter(pk=share.pk).update(wrong=F("wrong") + 1)
        refused = "This password is not right; type it again."
    if not _is_in(request.session, share):
        context = {"share": share, "asks": True, "refused": refused}
        return render(request, "together/shared.html", context, status=422 if refused else 200)
    Share.objects.filter(pk=share.pk).update(opened=F("opened") + 1, last_at=now())
    if share.pk not in request.session.get(_SEEN, []):
        request.session[_SEEN] = [*request.session.get(_SEEN, []), share.pk]
        record_event(AuditEntry.Kind.LINK_OPENED, mix=share.mix, details=share.name)
    return _page(request, share, text)


def _page(request: HttpRequest, share: Share, text: str, **more: object) -> HttpResponse:
    held = _mix_itself(share.mix) if share.live else _handed_over(share)
    context = {"share": share, "text": text, "most_words": MOST_WORDS, **held, **more}
    if share.remarks:
        theirs = share.mix.remarks.exclude(guest="").filter(user=None)
        context["made"] = theirs.filter(pk__in=request.session.get(_MADE, []))
        context["guest"] = request.session.get(_NAME, share.name)
    return render(request, "together/shared.html", context)


def _handed_over(share: Share) -> dict[str, object]:
    handover = _handover(share)
    files = [file for file in _heard(handover) if not file.stem] if handover else []
    kept = list(handover.files.all()) if handover and share.downloads else []
    begins = begins_s(files[0]) if files else 0.0
    return {"handover": handover, "files": files, "kept": kept, "begins_s": begins}


@login_not_required
@require_POST
def remark(request: HttpRequest, text: str) -> HttpResponse:
    """Make a remark as somebody who has a link that allows it."""
    share = _open_share(text)
    if share is None or not share.remarks or not _is_in(request.session, share):
        raise Http404
    name = " ".join(request.POST.get("guest", "").split())[:120]
    try:
        if not name:
            raise InputError("Say who you are; type your name.")
        words = words_of(request)
        if share.mix.remarks.exclude(guest="").count() >= _MOST_REMARKS:
            raise InputError("There are too many remarks already; ask for some to be resolved.")
        start_s = time_in(request, "start_s")
    except InputError as error:
        return _page(request, share, text, refused=str(error), typed=request.POST)
    handover = _handover(share)
    row = Remark.objects.create(
        mix=share.mix,
        guest=name,
        text=words,
        start_s=start_s,
        render=handover,
        revision=handover.revision if handover else share.mix.revision,
    )
    request.session[_MADE] = [*request.session.get(_MADE, [])[-_MOST_REMARKS:], row.pk]
    request.session[_NAME] = name
    tell(share.mix)
    events.tell(share.mix, events.REMARK, remark=row.pk, text=words, start_s=start_s, end_s=None)
    return redirect("shared", text)


@login_not_required
def keep(request: HttpRequest, text: str, name: str) -> HttpResponseBase:
    """A file of a handover to keep, by its name, where the link allows it."""
    share = _open_share(text)
    if share is None or not share.downloads or not _is_in(request.session, share):
        raise Http404
    file = get_object_or_404(RenderFile, name=name, render=_handover(share))
    record_event(AuditEntry.Kind.DOWNLOADED, mix=share.mix, details=f"{name} by {share.name}")
    response = send_file(request, file.file, "application/octet-stream", file.name)
    response["Content-Disposition"] = content_disposition_header(True, file.name) or "attachment"
    return response


def _mix_itself(mix: Mix) -> dict[str, object]:
    """How long a mix is, and what it is heard on: stereo, headphones, and its own targets."""
    document = document_of(mix)
    names = dict.fromkeys(("0+2+0", "binaural", *document.targets))
    targets = [target_named(name) for name in names]
    try:
        frames = length_frames(document)
    except InputError:
        frames = 0
    return {
        "frames": frames,
        "targets": [one for one in targets if one.layout or one.name == "binaural"],
    }


def _heard(handover: Render) -> list[RenderFile]:
    """The files of a handover that a browser plays."""
    return [
        file
        for file in handover.files.filter(kind="audio")
        if file.is_heard and file.figures.get("channels", 99) <= _MOST_CHANNELS
    ]


@login_not_required
def sound(request: HttpRequest, text: str, file_id: int) -> HttpResponseBase:
    """The sound of a file that a link leads to, in ranges as a browser asks for them."""
    share = _open_share(text)
    if share is None or not _is_in(request.session, share):
        raise Http404
    handover = _handover(share)
    offered = {file.pk: file for file in _heard(handover) if not file.stem} if handover else {}
    if file_id not in offered:
        raise Http404
    file = offered[file_id]
    kind = _KINDS.get(file.name.rsplit(".", 1)[-1], "application/octet-stream")
    return send_file(request, file.file, kind, file.name)
