"""What is changed about strips in Flow: their settings, ways, groups and sends, one or many at once."""

from collections.abc import Callable, Iterable

from django.db.models import QuerySet
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404
from django.views.decorators.http import require_POST

from metaphon.core.errors import InputError
from metaphon.core.scene.mix import PROGRAMME
from metaphon.core.scene.targets import bus_format
from metaphon.core.spatial.directions import wrap_azimuth
from metaphon.web.flow.views import changed
from metaphon.web.intake.recordings import free_ref
from metaphon.web.mixes import journal
from metaphon.web.mixes.models import Group, Mix, Placement, Processor, Send, Strip
from metaphon.web.mixes.numbers import parse_number
from metaphon.web.mixes.permissions import mix_for
from metaphon.web.mixes.placing import place_as, placed_as, said_as, set_as
from metaphon.web.mixes.renumbering import renumber
from metaphon.web.mixes.views import ids_in, seen

# what a row's numbers may be: name in the sentence, lowest, highest, unit, and which group setting moves it
_NUMBERS = {
    "gain_db": ("Gain", -120.0, 12.0, "dB", "moves_gain"),
    "azimuth_deg": ("Azimuth", -180.0, 180.0, "°", "moves_position"),
    "elevation_deg": ("Elevation", -90.0, 90.0, "°", "moves_position"),
    "extent_deg": ("Extent", 0.0, 360.0, "°", "moves_position"),
}
_SWITCHES = {
    "muted": ("Muted", "Unmuted"),
    "soloed": ("Soloed", "Unsoloed"),
    "solo_safe": ("Made solo-safe", "No longer solo-safe"),
    "resting": ("Put to rest", "Woke"),
    "inverted": ("Inverted", "Set upright"),
}
_TAPS = {"strip": "pre-strip", "pre": "pre-fader", "post": "post-fader"}


def strip_of(mix: Mix, strip_id: int) -> Strip:
    return get_object_or_404(Strip.objects.select_related("placement", "group"), pk=strip_id, mix=mix)


def _together(request: HttpRequest, mix: Mix, strip: Strip, moves: str) -> list[Strip]:
    """The strips an edit reaches: those chosen with it, else its group where that moves this, else itself."""
    chosen = ids_in(request, "also")
    found: QuerySet[Strip] = mix.strips.filter(pk=strip.pk)
    if strip.pk in chosen and len(chosen) > 1:
        found = mix.strips.filter(pk__in=chosen)
    elif strip.group and getattr(strip.group, moves, False) and request.POST.get("alone") != "on":
        found = strip.group.strips.filter(resting=False)
    return list(found.select_related("placement", "group"))


def _named(strips: list[Strip]) -> str:
    return strips[0].name if len(strips) == 1 else f"{strips[0].name} and {len(strips) - 1} more"


@require_POST
def set_field(request: HttpRequest, mix_id: int, strip_id: int, field: str) -> HttpResponse:
    """Change one thing about a strip, and about those that move with it."""
    mix = mix_for(request, mix_id)
    strip = strip_of(mix, strip_id)
    text = request.POST.get(field, "").strip()
    if field in _NUMBERS:
        return changed(request, mix, _set_number(request, mix, strip, field, text))
    if field in _SWITCHES:
        strips = _together(request, mix, strip, "moves_mute" if field in ("muted", "soloed") else "")
        _switch(request, mix, strips, field, text == "on")
        return changed(request, mix, None if field == "resting" else [s.pk for s in strips])
    if field == "width":
        return _set_width(request, mix, _together(request, mix, strip, ""), text)
    if field == "name":
        if not text:
            raise InputError("A track or bus needs a name; type one.")
        with journal.edit(mix, request.user, f"Named {strip.name} {text}"[:255], seen(request)):
            Strip.objects.filter(pk=strip.pk).update(name=text[:120])
        return changed(request, mix, None)
    strips = _together(request, mix, strip, "")
    if field == "output":
        _set_output(request, mix, strips, text)
    elif field == "mode":
        _set_placement(request, mix, strips, text)
    elif field == "layout":
        _set_layout(request, mix, strip, text)
    else:
        raise InputError(f"A track has no {field}.")
    return changed(request, mix, [s.pk for s in strips])


def _value(strip: Strip, field: str) -> float:
    return float(strip.gain_db) if field == "gain_db" else said_as(strip.placement, "sphere")[field]


def _write(strip: Strip, field: str, value: float) -> None:
    if field == "gain_db":
        Strip.objects.filter(pk=strip.pk).update(gain_db=value)
    else:
        set_as(strip.placement, "sphere", **{field: value})


def _set_number(request: HttpRequest, mix: Mix, strip: Strip, field: str, text: str) -> list[int]:
    name, low, high, unit, moves = _NUMBERS[field]
    number = parse_number(text, name, low, high, unit)
    strips = _together(request, mix, strip, moves)
    others = [other for other in strips if other.pk != strip.pk]
    step = number - _value(strip, field)
    if field != "azimuth_deg" and others:
        # nobody is pushed past an end, so that differences are kept; what is silent stays silent
        moving = [_value(s, field) for s in strips if not (field == "gain_db" and _value(s, field) <= low)]
        step = min(max(step, low - min(moving, default=low)), high - max(moving, default=high))
        number = _value(strip, field) + step
    with journal.edit(
        mix, request.user, f"{_named([strip, *others])}: {name.lower()} {number:.1f} {unit}", seen(request)
    ):
        _write(strip, field, number)
        for other in others:
            held = _value(other, field)
            if field == "azimuth_deg":
                _write(other, field, float(wrap_azimuth(held + step)))
            elif not (field == "gain_db" and held <= low):
                _write(other, field, round(held + step, 6))
    return [s.pk for s in strips]


def _switch(request: HttpRequest, mix: Mix, strips: list[Strip], field: str, on: bool) -> None:
    word = _SWITCHES[field][not on]
    with journal.edit(mix, request.user, f"{word} {_named(strips)}", seen(request)):
        if field == "inverted":
            for strip in strips:
                _set_in_basics(strip, polarity_inverted=on)
        else:
            Strip.objects.filter(pk__in=[s.pk for s in strips]).update(**{field: on})


def _set_in_basics(strip: Strip, **values: float | bool) -> None:
    """Polarity and width live in the strip's basics; one is put in front where there is none."""
    row = strip.processors.filter(kind="basics", bypassed=False).first()
    if row is None:
        for later in strip.processors.all():
            Processor.objects.filter(pk=later.pk).update(position=later.position + 1)
        renumber(strip.mix, f"{strip.ref}/chain", {n: n + 1 for n in range(strip.processors.count())})
        row = Processor.objects.create(strip=strip, kind="basics", position=0)
    Processor.objects.filter(pk=row.pk).update(parameters={**row.parameters, **values})


def _set_width(request: HttpRequest, mix: Mix, strips: list[Strip], text: str) -> HttpResponse:
    number = parse_number(text, "The width", 0.0, 4.0)
    with journal.edit(mix, request.user, f"{_named(strips)}: width {number:g}", seen(request)):
        for strip in strips:
            _set_in_basics(strip, width=number)
    return changed(request, mix, [s.pk for s in strips])


def _set_output(request: HttpRequest, mix: Mix, strips: list[Strip], text: str) -> None:
    bus = get_object_or_404(mix.strips, pk=int(text), kind=Strip.Kind.BUS) if text.isdigit() else None
    where = bus.name if bus else "the mix" if text == PROGRAMME else "nothing"
    with journal.edit(mix, request.user, f"{_named(strips)} feeds {where}", seen(request)):
        _feed(strips, bus, text == PROGRAMME)


def _feed(strips: Iterable[Strip], bus: Strip | None, to_programme: bool) -> None:
    ids = [s.pk for s in strips if bus is None or s.pk != bus.pk]
    Strip.objects.filter(pk__in=ids).update(output_bus=bus, to_programme=to_programme)


def _set_placement(request: HttpRequest, mix: Mix, strips: list[Strip], text: str) -> None:
    with journal.edit(mix, request.user, f"{_named(strips)}: placed as {placed_as(text)}", seen(request)):
        place_as(strips, text)


def _set_layout(request: HttpRequest, mix: Mix, strip: Strip, text: str) -> None:
    if strip.kind != Strip.Kind.BUS:
        raise InputError("A track is as wide as its recording; only a bus can be made wider or narrower.")
    width = bus_format(text)
    with journal.edit(mix, request.user, f"{strip.name} is now {width.title}", seen(request)):
        Strip.objects.filter(pk=strip.pk).update(layout=width.name)


@require_POST
def set_send(request: HttpRequest, mix_id: int, strip_id: int, bus_id: int) -> HttpResponse:
    """Make or change the send of a strip to a bus; `remove` takes it away."""
    mix = mix_for(request, mix_id)
    strip = strip_of(mix, strip_id)
    bus = get_object_or_404(mix.strips, pk=bus_id, kind=Strip.Kind.BUS)
    if "remove" in request.POST:
        with journal.edit(mix, request.user, f"{strip.name} no longer sends to {bus.name}", seen(request)):
            mix.automation.filter(target=f"{strip.ref}/sends/{bus.ref}/level_db").delete()
            strip.sends.filter(bus=bus).delete()
        return changed(request, mix, [strip.pk])
    values: dict[str, object] = {}
    said = []
    if text := request.POST.get("level_db", "").strip():
        level = values["level_db"] = parse_number(text, "The send", -120.0, 12.0, "dB")
        said.append(f"{level:.1f} dB")
    if "tap" in request.POST:
        tap = values["tap"] = request.POST["tap"]
        if tap not in _TAPS:
            raise InputError("A send is taken before the strip, before the fader (pre) or after it (post).")
        said.append(_TAPS[str(tap)])
    if "muted" in request.POST:
        values["muted"] = request.POST["muted"] == "on"
        said.append("muted" if values["muted"] else "unmuted")
    if "azimuth_deg" in request.POST:
        text = request.POST["azimuth_deg"].strip()
        values["azimuth_deg"] = parse_number(text, "The send's azimuth", -180.0, 180.0, "°") if text else None
        said.append(f"at {text}°" if text else "where the track stands")
    with journal.edit(mix, request.user, f"{strip.name} to {bus.name} {', '.join(said)}".strip(), seen(request)):
        Send.objects.update_or_create(source=strip, bus=bus, defaults=values)
    return changed(request, mix, [strip.pk])


@require_POST
def add_bus(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Make a bus; with `reverb` it carries one, ready to be sent to."""
    mix = mix_for(request, mix_id)
    layout, reverb = bus_format(request.POST.get("layout", "0+5+0")), "reverb" in request.POST
    name = request.POST.get("name", "").strip()[:110] or ("Reverb" if reverb else "Bus")
    with journal.edit(mix, request.user, f"Made the bus {name}"):
        ref = free_ref(mix, name, "bus")
        position = mix.strips.count()
        bus = Strip.objects.create(
            mix=mix, kind=Strip.Kind.BUS, ref=ref, name=name, layout=layout.name, position=position
        )
        Placement.objects.create(strip=bus, mode="scene" if layout.order else "bed")
        if reverb:
            Processor.objects.create(strip=bus, kind="network_reverb")
    return changed(request, mix, None)


@require_POST
def remove(request: HttpRequest, mix_id: int, strip_id: int) -> HttpResponse:
    """Take a track or bus out; what fed a bus goes where the bus went."""
    mix = mix_for(request, mix_id)
    strip = strip_of(mix, strip_id)
    with journal.edit(mix, request.user, f"Removed {strip.name}", seen(request)):
        mix.automation.filter(target__startswith=f"{strip.ref}/").delete()
        mix.automation.filter(target__endswith=f"/sends/{strip.ref}/level_db").delete()
        strip.fed_by.update(output_bus=strip.output_bus, to_programme=strip.to_programme)
        strip.delete()
    return changed(request, mix, None)


@require_POST
def route(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Several strips to one aim at once: `feed` it and nothing else, or `send` to it as well."""
    mix = mix_for(request, mix_id)
    strips = list(mix.strips.filter(pk__in=ids_in(request)))
    aim, how = request.POST.get("aim", ""), request.POST.get("how", "feed")
    if not strips:
        raise InputError("Nothing is chosen; tick some tracks first.")
    if how == "feed":
        _set_output(request, mix, strips, aim)
        return changed(request, mix, [s.pk for s in strips])
    bus = get_object_or_404(mix.strips, pk=int(aim) if aim.isdigit() else 0, kind=Strip.Kind.BUS)
    level = parse_number(request.POST.get("level_db") or "-12", "The send", -120.0, 12.0, "dB")
    with journal.edit(mix, request.user, f"{_named(strips)} to {bus.name} {level:.1f} dB", seen(request)):
        for strip in strips:
            if strip.pk != bus.pk:
                Send.objects.update_or_create(source=strip, bus=bus, defaults={"level_db": level})
    return changed(request, mix, [s.pk for s in strips])


@require_POST
def bulk(request: HttpRequest, mix_id: int) -> HttpResponse:
    """One action on all chosen strips, one step in the history."""
    mix = mix_for(request, mix_id)
    strips = list(mix.strips.filter(pk__in=ids_in(request)).select_related("placement"))
    action, value = request.POST.get("action", ""), request.POST.get("value", "").strip()
    if not strips:
        raise InputError("Nothing is chosen; tick some tracks first.")
    actions: dict[str, Callable[[], None]] = {
        "mode": lambda: _set_placement(request, mix, strips, value),
        "group": lambda: _set_group(request, mix, strips, value),
    }
    if action in _SWITCHES:
        _switch(request, mix, strips, action, value == "on")
    elif action == "gain_db":
        _shift_gains(request, mix, strips, value)
    elif action in actions:
        actions[action]()
    else:
        raise InputError("Choose what to do with the chosen tracks.")
    return changed(request, mix, None if action in ("resting", "group") else [s.pk for s in strips])


def _shift_gains(request: HttpRequest, mix: Mix, strips: list[Strip], text: str) -> None:
    step = parse_number(text, "The change", -60.0, 60.0, "dB")
    loud = [s for s in strips if s.gain_db > -120.0]
    step = min(step, 12.0 - max((s.gain_db for s in loud), default=0.0))
    with journal.edit(mix, request.user, f"{_named(strips)}: gain {step:+.1f} dB", seen(request)):
        for strip in loud:
            Strip.objects.filter(pk=strip.pk).update(gain_db=max(round(strip.gain_db + step, 6), -120.0))


def _set_group(request: HttpRequest, mix: Mix, strips: list[Strip], name: str) -> None:
    """Into a group of this name, which is made where there is none; an empty name takes them out."""
    what = f"{_named(strips)} in the group {name}" if name else f"{_named(strips)} in no group"
    with journal.edit(mix, request.user, what[:255], seen(request)):
        group = mix.groups.filter(name=name).first() if name else None
        if name and group is None:
            taken = set(mix.groups.values_list("ref", flat=True))
            ref = next(f"group{n}" for n in range(1, len(taken) + 2) if f"group{n}" not in taken)
            group = Group.objects.create(mix=mix, ref=ref, name=name[:120])
        Strip.objects.filter(pk__in=[s.pk for s in strips]).update(group=group)
        mix.groups.filter(strips__isnull=True).delete()


@require_POST
def set_group(request: HttpRequest, mix_id: int, group_id: int, field: str) -> HttpResponse:
    """What a group moves together."""
    mix = mix_for(request, mix_id)
    group = get_object_or_404(Group, pk=group_id, mix=mix)
    words = {"moves_gain": "gains", "moves_mute": "mutes and solos", "moves_position": "positions"}
    if field not in words:
        raise InputError("A group moves gains, mutes or positions.")
    on = request.POST.get(field) == "on"
    what = f"{group.name} {'moves' if on else 'no longer moves'} {words[field]} together"
    with journal.edit(mix, request.user, what[:255], seen(request)):
        Group.objects.filter(pk=group.pk).update(**{field: on})
    return changed(request, mix, list(group.strips.values_list("pk", flat=True)))
