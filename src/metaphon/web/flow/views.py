"""Flow, as a table: every track and bus, its level, where it goes, where it stands, what it sends."""

from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, render
from django.views.decorators.http import require_POST

from metaphon.core.errors import InputError
from metaphon.core.process.registry import KINDS
from metaphon.core.spatial.layouts import LAYOUTS
from metaphon.web.flow.controls import controls_of, title_of
from metaphon.web.intake.recordings import SCENE_CHANNELS, free_ref, kind_of
from metaphon.web.mixes import journal
from metaphon.web.mixes.models import Mix, Placement, Processor, Send, Strip
from metaphon.web.mixes.numbers import parse_number
from metaphon.web.mixes.permissions import mix_for
from metaphon.web.mixes.views import after_edit, seen
from metaphon.web.shell.context import editing

# what a row's numbers may be: name in the sentence, lowest, highest, unit, row of the strip or its placement
_NUMBERS = {
    "gain_db": ("Gain", -120.0, 12.0, "dB", Strip),
    "azimuth_deg": ("Azimuth", -180.0, 180.0, "°", Placement),
    "elevation_deg": ("Elevation", -90.0, 90.0, "°", Placement),
    "extent_deg": ("Extent", 0.0, 180.0, "°", Placement),
}
BED_LAYOUTS = ("0+2+0", "0+5+0", "0+7+0", "4+5+0", "4+7+0", "9+10+3")
BUS_LAYOUTS = ("0+1+0", "0+2+0", "0+3+0", "0+4+0", *BED_LAYOUTS[1:])


def show(request: HttpRequest, mix_id: int) -> HttpResponse:
    mix = mix_for(request, mix_id)
    chosen = request.GET.get("strip", "")
    context = {**editing(request, mix), **_table(mix), "layouts": [LAYOUTS[name] for name in BUS_LAYOUTS]}
    strip = mix.strips.filter(pk=int(chosen)).first() if chosen.isdigit() else None
    if strip:
        context |= _panel(mix, strip)
    return render(request, "flow/show.html", context)


def _table(mix: Mix, only: Strip | None = None) -> dict[str, object]:
    strips = mix.strips.select_related("placement", "output_bus").prefetch_related(
        "clips__audio", "sends", "processors"
    )
    buses = [strip for strip in mix.strips.all() if strip.kind == Strip.Kind.BUS]
    lanes = {lane.target: [point["value"] for point in lane.points] for lane in mix.automation.all()}
    chosen = strips.filter(pk=only.pk) if only else strips
    rows = [_row(strip, buses, lanes) for strip in chosen]
    return {"rows": rows, "row": rows[0] if only else None, "buses": buses, "beds": [LAYOUTS[b] for b in BED_LAYOUTS]}


def _row(strip: Strip, buses: list[Strip], lanes: dict[str, list[float]]) -> dict[str, object]:
    sends = {send.bus_id: send for send in strip.sends.all()}
    clips = list(strip.clips.all())
    channels = LAYOUTS[strip.layout].channels if strip.layout else clips[0].audio.channels if clips else 0
    moving = {
        name: (min(values), max(values))
        for name in ("azimuth_deg", "elevation_deg")
        if (values := lanes.get(f"{strip.ref}/placement/{name}"))
    }
    turns = strip.placement.mode == Placement.Mode.OBJECT
    pans = channels == 1 and (strip.placement.mode == Placement.Mode.BED or not strip.to_programme)
    return {
        "strip": strip,
        "width": LAYOUTS[strip.layout].everyday if strip.layout else kind_of(channels).split(" (")[0] if clips else "–",
        "kind": "bus" if strip.layout else "scene" if channels in SCENE_CHANNELS else "track",
        "sends": [(bus, sends.get(bus.pk), bus.pk == strip.pk) for bus in buses],
        "output": "programme" if strip.to_programme else strip.output_bus_id or "",
        "outputs": [bus for bus in buses if bus.pk != strip.pk],
        "moving": moving,
        "has_azimuth": (turns and strip.to_programme) or pans,
        "has_elevation": turns and strip.to_programme,
        "inverted": any(p.kind == "basics" and p.parameters.get("polarity_inverted") for p in strip.processors.all()),
    }


def _panel(mix: Mix, strip: Strip) -> dict[str, object]:
    chain = [(row, title_of(row), controls_of(row)) for row in strip.processors.all()]
    kinds = [(kind, model.title) for kind, model in KINDS.items()]
    return {"mix": mix, "chosen": strip, "chain": chain, "kinds": kinds}


def _strip_of(mix: Mix, strip_id: int) -> Strip:
    return get_object_or_404(Strip.objects.select_related("placement"), pk=strip_id, mix=mix)


def panel(request: HttpRequest, mix_id: int, strip_id: int) -> HttpResponse:
    mix = mix_for(request, mix_id)
    context = {**editing(request, mix), **_panel(mix, _strip_of(mix, strip_id))}
    return render(request, "flow/panel.html", context)


@require_POST
def set_field(request: HttpRequest, mix_id: int, strip_id: int, field: str) -> HttpResponse:
    """Change one thing about a strip."""
    mix = mix_for(request, mix_id)
    strip = _strip_of(mix, strip_id)
    text = request.POST.get(field, "").strip()
    if field in _NUMBERS:
        name, low, high, unit, table = _NUMBERS[field]
        number = parse_number(text, name, low, high, unit)
        with journal.edit(mix, request.user, f"{strip.name}: {name.lower()} {number:.1f} {unit}", seen(request)):
            target = {"pk": strip.pk} if table is Strip else {"strip": strip}
            table._default_manager.filter(**target).update(**{field: number})
    elif field == "name":
        if not text:
            raise InputError("A track or bus needs a name; type one.")
        with journal.edit(mix, request.user, f"Named {strip.name} {text}"[:255], seen(request)):
            Strip.objects.filter(pk=strip.pk).update(name=text[:120])
    elif field in ("muted", "resting"):
        on = text == "on"
        word = {"muted": ("Muted", "Unmuted"), "resting": ("Put to rest", "Woke")}[field][not on]
        with journal.edit(mix, request.user, f"{word} {strip.name}", seen(request)):
            Strip.objects.filter(pk=strip.pk).update(**{field: on})
    elif field == "output":
        _set_output(request, mix, strip, text)
    elif field in ("mode", "bed"):
        _set_placement(request, mix, strip, text)
    else:
        raise InputError(f"A track has no {field}.")
    response = after_edit(request, mix, "flow/row.html", _table(mix, strip))
    if field in ("name", "resting"):  # also written elsewhere on the page
        response["HX-Trigger"] = "mix-edited, mix-changed"
    return response


def _set_output(request: HttpRequest, mix: Mix, strip: Strip, text: str) -> None:
    bus = get_object_or_404(mix.strips, pk=int(text), kind=Strip.Kind.BUS) if text.isdigit() else None
    where = bus.name if bus else "the mix" if text == "programme" else "nothing"
    with journal.edit(mix, request.user, f"{strip.name} feeds {where}", seen(request)):
        Strip.objects.filter(pk=strip.pk).update(output_bus=bus, to_programme=text == "programme")


def _set_placement(request: HttpRequest, mix: Mix, strip: Strip, text: str) -> None:
    layout, mode = (text, "bed") if text in LAYOUTS else (strip.placement.layout, text)
    if mode not in Placement.Mode.values:
        raise InputError("Place a track as bed, object, scene or none.")
    where = f"{LAYOUTS[layout].everyday} bed" if mode == "bed" else mode
    with journal.edit(mix, request.user, f"{strip.name}: placed as {where}", seen(request)):
        Placement.objects.filter(strip=strip).update(mode=mode, layout=layout)


@require_POST
def set_send(request: HttpRequest, mix_id: int, strip_id: int, bus_id: int) -> HttpResponse:
    """Set, tap or (with an empty level) take away the send of a strip to a bus."""
    mix = mix_for(request, mix_id)
    strip = _strip_of(mix, strip_id)
    bus = get_object_or_404(mix.strips, pk=bus_id, kind=Strip.Kind.BUS)
    held = strip.sends.filter(bus=bus).first()
    text = request.POST.get("level_db", "").strip()
    tap = request.POST.get("tap") or (held.tap if held else "post")
    if tap not in ("pre", "post"):
        raise InputError("A send is taken before (pre) or after (post) the fader.")
    if not text and "tap" not in request.POST:
        with journal.edit(mix, request.user, f"{strip.name} no longer sends to {bus.name}", seen(request)):
            strip.sends.filter(bus=bus).delete()
    else:
        level = parse_number(text, "The send", -120.0, 12.0, "dB") if text else held.level_db if held else -12.0
        with journal.edit(mix, request.user, f"{strip.name} to {bus.name} {level:.1f} dB, {tap}-fader", seen(request)):
            Send.objects.update_or_create(source=strip, bus=bus, defaults={"level_db": level, "tap": tap})
    return after_edit(request, mix, "flow/row.html", _table(mix, strip))


@require_POST
def add_bus(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Make a bus; with `reverb` it carries one, ready to be sent to."""
    mix = mix_for(request, mix_id)
    layout, reverb = request.POST.get("layout", "0+5+0"), "reverb" in request.POST
    if layout not in LAYOUTS:
        raise InputError("Choose the width of the bus from the list.")
    name = request.POST.get("name", "").strip()[:110] or ("Reverb" if reverb else "Bus")
    with journal.edit(mix, request.user, f"Made the bus {name}"):
        ref = free_ref(mix, name, "bus")
        position = mix.strips.count()
        bus = Strip.objects.create(mix=mix, kind=Strip.Kind.BUS, ref=ref, name=name, layout=layout, position=position)
        Placement.objects.create(strip=bus)
        if reverb:
            Processor.objects.create(strip=bus, kind="network_reverb")
    return after_edit(request, mix, "flow/table.html", _table(mix))


@require_POST
def remove(request: HttpRequest, mix_id: int, strip_id: int) -> HttpResponse:
    """Take a track or bus out; what fed a bus goes where the bus went."""
    mix = mix_for(request, mix_id)
    strip = _strip_of(mix, strip_id)
    with journal.edit(mix, request.user, f"Removed {strip.name}", seen(request)):
        mix.automation.filter(target__startswith=f"{strip.ref}/").delete()
        mix.automation.filter(target__endswith=f"/sends/{strip.ref}/level_db").delete()
        strip.fed_by.update(output_bus=strip.output_bus, to_programme=strip.to_programme)
        strip.delete()
    return after_edit(request, mix, "flow/table.html", {**_table(mix), "close_panel": True})


@require_POST
def add_processor(request: HttpRequest, mix_id: int, strip_id: int) -> HttpResponse:
    mix = mix_for(request, mix_id)
    strip = _strip_of(mix, strip_id)
    kind = request.POST.get("kind", "")
    if kind not in KINDS:
        raise InputError("Choose a processor from the list.")
    with journal.edit(mix, request.user, f"Added {KINDS[kind].title} to {strip.name}", seen(request)):
        Processor.objects.create(strip=strip, kind=kind, position=strip.processors.count())
    return after_edit(request, mix, "flow/panel.html", _panel(mix, strip))


@require_POST
def set_parameter(request: HttpRequest, mix_id: int, processor_id: int, field: str) -> HttpResponse:
    mix = mix_for(request, mix_id)
    row = get_object_or_404(Processor, pk=processor_id, strip__mix=mix)
    control = next((control for control in controls_of(row) if control.name == field), None)
    if control is None:
        raise InputError(f"{title_of(row)} has no {field}.")
    text = request.POST.get(field, "")
    value: float | bool = text == "on"
    if not control.is_switch:
        value = parse_number(text, control.label, control.low, control.high, control.unit)
    shown = ("on" if value else "off") if control.is_switch else f"{value:g} {control.unit}".strip()
    what = f"{row.strip.name}, {title_of(row).lower()}: {control.label.lower()} {shown}"
    with journal.edit(mix, request.user, what, seen(request)):
        Processor.objects.filter(pk=row.pk).update(parameters={**row.parameters, field: value})
    return after_edit(request, mix, "flow/panel.html", _panel(mix, _strip_of(mix, row.strip_id)))


@require_POST
def remove_processor(request: HttpRequest, mix_id: int, processor_id: int) -> HttpResponse:
    mix = mix_for(request, mix_id)
    row = get_object_or_404(Processor, pk=processor_id, strip__mix=mix)
    strip = _strip_of(mix, row.strip_id)
    with journal.edit(mix, request.user, f"Took {title_of(row)} off {strip.name}", seen(request)):
        row.delete()
    return after_edit(request, mix, "flow/panel.html", _panel(mix, strip))
