"""What is changed about the processors of a strip."""

from typing import Any

from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404
from django.views.decorators.http import require_POST
from pydantic import ValidationError

from metaphon.core.errors import InputError
from metaphon.core.process.registry import KINDS
from metaphon.web.flow.controls import band_controls, controls_of, title_of
from metaphon.web.flow.edits import strip_of
from metaphon.web.flow.views import changed
from metaphon.web.mixes import journal
from metaphon.web.mixes.models import Mix, Processor, StartingPoint, Strip
from metaphon.web.mixes.numbers import as_ms, parse_number
from metaphon.web.mixes.permissions import mix_for
from metaphon.web.mixes.renumbering import renumber
from metaphon.web.mixes.views import ids_in, seen
from metaphon.web.shell.controls import Control


def _row_of(request: HttpRequest, mix_id: int, processor_id: int) -> tuple[Mix, Processor]:
    mix = mix_for(request, mix_id)
    return mix, get_object_or_404(Processor.objects.select_related("strip"), pk=processor_id, strip__mix=mix)


@require_POST
def add(request: HttpRequest, mix_id: int, strip_id: int) -> HttpResponse:
    mix = mix_for(request, mix_id)
    strip = strip_of(mix, strip_id)
    kind = request.POST.get("kind", "")
    if kind not in KINDS:
        raise InputError("Choose a processor from the list.")
    with journal.edit(mix, request.user, f"Added {KINDS[kind].title} to {strip.name}", seen(request)):
        Processor.objects.create(strip=strip, kind=kind, position=strip.processors.count())
    return changed(request, mix, [strip.pk])


@require_POST
def set_parameter(request: HttpRequest, mix_id: int, processor_id: int, field: str) -> HttpResponse:
    mix, row = _row_of(request, mix_id, processor_id)
    control = next((control for control in controls_of(row) if control.name == field), None)
    if control is None or control.sort == "bands":
        raise InputError(f"{title_of(row)} has no {field}.")
    value, shown = _read(request, control, mix)
    return _write(request, mix, row, {**row.parameters, field: value}, f"{control.label.lower()} {shown}")


def _read(request: HttpRequest, control: Control, mix: Mix) -> tuple[Any, str]:
    """The value posted for a control, and how the history tells it."""
    text = request.POST.get(control.name, "")
    match control.sort:
        case "switch":
            return text == "on", "on" if text == "on" else "off"
        case "choice":
            if text not in dict(control.choices):
                raise InputError(f"{control.label}: choose from the list.")
            return text, dict(control.choices)[text].lower()
        case "channels":
            number = int(text) if text.isdigit() else 0
            held = set(control.value) ^ {number}
            return sorted(n for n in held if 1 <= n <= 24), f"channel {number}"
        case "number":
            typed = as_ms(text, mix.sample_rate_hz) if control.unit == "ms" else text
            number_ = parse_number(typed, control.label, control.low, control.high, control.unit)
            return number_, f"{number_:g} {control.unit}".strip()
    raise InputError(f"{control.label} cannot be set.")


def _write(
    request: HttpRequest, mix: Mix, row: Processor, parameters: dict[str, Any], what: str, gone: int | None = None
) -> HttpResponse:
    """Keep new parameters, once the processor's model has taken them. `gone` is the number of a band taken off."""
    try:
        KINDS[row.kind](**parameters)
    except ValidationError as error:
        raise InputError(f"{title_of(row)}: {error.errors()[0]['msg']}.") from None
    with journal.edit(mix, request.user, f"{row.strip.name}, {title_of(row).lower()}: {what}"[:255], seen(request)):
        Processor.objects.filter(pk=row.pk).update(parameters=parameters)
        if gone is not None:
            place = list(row.strip.processors.values_list("pk", flat=True)).index(row.pk)
            later = {number: number - 1 for number in range(gone + 1, len(row.parameters["bands"]))}
            renumber(mix, f"{row.strip.ref}/chain/{place}/bands", {gone: None, **later})
    return changed(request, mix, [row.strip_id])


@require_POST
def add_band(request: HttpRequest, mix_id: int, processor_id: int) -> HttpResponse:
    mix, row = _row_of(request, mix_id, processor_id)
    bands = [*row.parameters.get("bands", ()), {"shape": request.POST.get("shape", "bell")}]
    return _write(request, mix, row, {**row.parameters, "bands": bands}, f"band {len(bands)} added")


@require_POST
def set_band(request: HttpRequest, mix_id: int, processor_id: int, place: int, field: str) -> HttpResponse:
    mix, row = _row_of(request, mix_id, processor_id)
    bands = [dict(band) for band in row.parameters.get("bands", ())]
    if place >= len(bands):
        raise InputError("This band is no longer there; look again.")
    gone = place if field == "remove" else None
    if field == "remove":
        del bands[place]
        what = f"band {place + 1} removed"
    else:
        control = next((control for control in band_controls(row, place) if control.name == field), None)
        if control is None:
            raise InputError(f"A band has no {field}.")
        bands[place][field], shown = _read(request, control, mix)
        what = f"band {place + 1}, {control.label.lower()} {shown}"
    return _write(request, mix, row, {**row.parameters, "bands": bands}, what, gone)


@require_POST
def act(request: HttpRequest, mix_id: int, processor_id: int, action: str) -> HttpResponse:
    """Take a processor off, move it in the chain, bypass it, or copy it to other strips."""
    mix, row = _row_of(request, mix_id, processor_id)
    strip, title = row.strip, title_of(row)
    if action == "copy":
        return _copy(request, mix, strip, [row], f"Copied {title} of {strip.name}")
    words = {"remove": f"Took {title} off {strip.name}", "up": f"Moved {title} of {strip.name}",
             "down": f"Moved {title} of {strip.name}",
             "bypass": f"{'Brought back' if row.bypassed else 'Bypassed'} {title} on {strip.name}"}  # fmt: skip
    if action not in words:
        raise InputError("A processor can be moved, bypassed, copied or removed.")
    before = list(strip.processors.values_list("pk", flat=True))
    with journal.edit(mix, request.user, words[action], seen(request)):
        if action == "bypass":
            Processor.objects.filter(pk=row.pk).update(bypassed=not row.bypassed)
        elif action == "remove":
            row.delete()
        order = list(strip.processors.all())
        if action in ("up", "down"):
            at = order.index(row)
            order.insert(max(at + (-1 if action == "up" else 1), 0), order.pop(at))
        now = {each.pk: position for position, each in enumerate(order)}
        renumber(mix, f"{strip.ref}/chain", {old: now.get(pk) for old, pk in enumerate(before)})
        for pk, position in now.items():
            Processor.objects.filter(pk=pk).update(position=position)
    return changed(request, mix, [strip.pk])


@require_POST
def copy_chain(request: HttpRequest, mix_id: int, strip_id: int) -> HttpResponse:
    """Give all processors of a strip to the chosen ones too."""
    mix = mix_for(request, mix_id)
    strip = strip_of(mix, strip_id)
    return _copy(request, mix, strip, list(strip.processors.all()), f"Copied the chain of {strip.name}")


def _copy(request: HttpRequest, mix: Mix, strip: Strip, rows: list[Processor], what: str) -> HttpResponse:
    ids = set(ids_in(request)) - {strip.pk}
    aims = list(mix.strips.filter(pk__in=ids))
    if not aims or not rows:
        raise InputError("Tick the tracks to copy to in the table or on the map first.")
    with journal.edit(mix, request.user, f"{what} to {len(aims)} more", seen(request)):
        for aim in aims:
            _append(aim, [(row.kind, row.bypassed, row.parameters) for row in rows])
    return changed(request, mix, [aim.pk for aim in aims])


def _append(strip: Strip, chain: list[tuple[str, bool, dict[str, Any]]]) -> None:
    first = strip.processors.count()
    for position, (kind, bypassed, parameters) in enumerate(chain, first):
        Processor.objects.create(strip=strip, position=position, kind=kind, bypassed=bypassed, parameters=parameters)


@require_POST
def keep(request: HttpRequest, mix_id: int, strip_id: int) -> HttpResponse:
    """Keep the chain of a strip under a name, as a starting point of one's own."""
    mix = mix_for(request, mix_id)
    strip = strip_of(mix, strip_id)
    name = request.POST.get("name", "").strip()[:120]
    if not name:
        raise InputError("A starting point needs a name; type one.")
    chain = [{"kind": p.kind, "bypassed": p.bypassed, "parameters": p.parameters} for p in strip.processors.all()]
    if not chain:
        raise InputError(f"{strip.name} has no processors to keep.")
    StartingPoint.objects.update_or_create(user_id=int(request.user.pk or 0), name=name, defaults={"chain": chain})
    return changed(request, mix, [strip.pk])


@require_POST
def load(request: HttpRequest, mix_id: int, strip_id: int) -> HttpResponse:
    """Set a strip's chain from a starting point."""
    mix = mix_for(request, mix_id)
    strip = strip_of(mix, strip_id)
    text = request.POST.get("point", "")
    point = get_object_or_404(StartingPoint, pk=int(text) if text.isdigit() else 0, user=request.user.pk)
    if "forget" in request.POST:
        point.delete()
        return changed(request, mix, [strip.pk])
    with journal.edit(mix, request.user, f"{strip.name} starts from {point.name}"[:255], seen(request)):
        strip.processors.all().delete()
        mix.automation.filter(target__startswith=f"{strip.ref}/chain/").delete()
        known = [each for each in point.chain if each["kind"] in KINDS]
        _append(strip, [(each["kind"], each["bypassed"], each["parameters"]) for each in known])
    return changed(request, mix, [strip.pk])
