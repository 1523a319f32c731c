"""From rows to the scene that the core works on, and from a scene to new rows."""

from collections.abc import Callable
from pathlib import Path

from django.core.files.storage import default_storage

from metaphon.core.files.mixdoc import parse
from metaphon.core.scene import mix as scene
from metaphon.core.scene.graph import ordered
from metaphon.web.mixes.models import (
    AudioFile,
    Automation,
    Clip,
    Group,
    Mix,
    Placement,
    Processor,
    Send,
    Strip,
    Target,
)

_PLACEMENT = tuple(scene.Placement.model_fields)
_GROUP = tuple(name for name in scene.Group.model_fields if name != "id")
_SEND = tuple(name for name in scene.Send.model_fields if name != "bus")
_PLAIN = ("name", "resting", "muted", "soloed", "solo_safe", "gain_db")  # the same in rows and scene


def local_path(file: AudioFile) -> Path:
    """Where a recording lies on this machine."""
    return Path(default_storage.path(str(file.file.name)))


def scene_of(mix: Mix) -> scene.Mix:
    """The whole mix as frozen data, its files absolute. Raises InputError where the rows do not hang together."""
    strips = list(
        mix.strips.select_related("placement", "output_bus", "group").prefetch_related(
            "clips__audio", "sends__bus", "processors"
        )
    )
    return parse(
        {
            "format": "metaphon-mix",
            "title": mix.title,
            "sample_rate_hz": mix.sample_rate_hz,
            "tracks": [_track(strip) for strip in strips if strip.kind == Strip.Kind.TRACK],
            "buses": [{**_strip(strip), "layout": strip.layout} for strip in strips if strip.kind == Strip.Kind.BUS],
            "groups": [
                {name: getattr(group, name) for name in _GROUP} | {"id": group.ref} for group in mix.groups.all()
            ],
            "automation": [{"target": lane.target, "points": lane.points} for lane in mix.automation.all()],
            "targets": [target.name for target in mix.targets.all()],
        },
        mix.title,
    )


def checked(mix: Mix) -> scene.Mix:
    """The scene, refused with InputError where its routing runs in a loop."""
    assembled = scene_of(mix)
    ordered(assembled)
    return assembled


def _strip(strip: Strip) -> dict[str, object]:
    output = scene.PROGRAMME if strip.to_programme else strip.output_bus.ref if strip.output_bus else None
    return {
        **{name: getattr(strip, name) for name in _PLAIN},
        "id": strip.ref,
        "group": strip.group.ref if strip.group else None,
        "chain": [{"kind": p.kind, "bypassed": p.bypassed, **p.parameters} for p in strip.processors.all()],
        "sends": [{"bus": s.bus.ref, **{name: getattr(s, name) for name in _SEND}} for s in strip.sends.all()],
        "output": output,
        "placement": {name: getattr(strip.placement, name) for name in _PLACEMENT},
    }


def _track(strip: Strip) -> dict[str, object]:
    clips = [{"file": local_path(clip.audio), "start_s": clip.start_s} for clip in strip.clips.all()]
    return {**_strip(strip), "clips": clips}


def unpack(document: scene.Mix, mix: Mix, recording: Callable[[Path], AudioFile]) -> None:
    """Make the rows of a scene in an empty mix; `recording` brings a file in and gives its row."""
    groups = {group.id: Group.objects.create(mix=mix, ref=group.id, **group.model_dump(exclude={"id"}))
              for group in document.groups}  # fmt: skip
    rows: dict[str, Strip] = {}
    for position, strip in enumerate(document.strips):
        rows[strip.id] = Strip.objects.create(
            mix=mix,
            kind=Strip.Kind.BUS if isinstance(strip, scene.Bus) else Strip.Kind.TRACK,
            ref=strip.id,
            position=position,
            **{name: getattr(strip, name) for name in _PLAIN},
            to_programme=strip.output == scene.PROGRAMME,
            layout=strip.layout if isinstance(strip, scene.Bus) else "",
        )
    for strip in document.strips:
        row = rows[strip.id]
        group = groups.get(str(strip.group))
        Strip.objects.filter(pk=row.pk).update(output_bus=rows.get(str(strip.output)), group=group)
        Placement.objects.create(strip=row, **strip.placement.model_dump())
        _write_sends(row, strip, rows)
        _write_chain(row, strip)
        for clip in strip.clips if isinstance(strip, scene.Track) else ():
            Clip.objects.create(track=row, audio=recording(clip.file), start_s=clip.start_s)
    for lane in document.automation:
        Automation.objects.create(mix=mix, target=lane.target, points=[p.model_dump() for p in lane.points])
    for position, name in enumerate(document.targets):
        Target.objects.create(mix=mix, name=name, position=position)


def write_changes(mix: Mix, before: scene.Mix, after: scene.Mix) -> None:
    """Bring the rows of a mix from one scene to another that has the same tracks and buses."""
    rows = {row.ref: row for row in mix.strips.all()}
    for old, new in zip(before.strips, after.strips, strict=True):
        if old == new:
            continue
        row = rows[new.id]
        Strip.objects.filter(pk=row.pk).update(
            **{name: getattr(new, name) for name in _PLAIN},
            output_bus=rows.get(str(new.output)),
            to_programme=new.output == scene.PROGRAMME,
        )
        if old.placement != new.placement:
            Placement.objects.filter(strip=row).update(**new.placement.model_dump())
        if old.sends != new.sends:
            row.sends.exclude(bus__ref__in=[send.bus for send in new.sends]).delete()
            _write_sends(row, new, rows)
        if old.chain != new.chain:
            _write_chain(row, new)
    gone = {lane.target for lane in before.automation} - {lane.target for lane in after.automation}
    mix.automation.filter(target__in=gone).delete()
    for lane in set(after.automation) - set(before.automation):
        points = [point.model_dump() for point in lane.points]
        Automation.objects.update_or_create(mix=mix, target=lane.target, defaults={"points": points})


def _write_sends(row: Strip, strip: scene.Strip, rows: dict[str, Strip]) -> None:
    for send in strip.sends:
        values = {name: getattr(send, name) for name in _SEND}
        Send.objects.update_or_create(source=row, bus=rows[send.bus], defaults=values)


def _write_chain(row: Strip, strip: scene.Strip) -> None:
    """Set the processors of a strip, keeping the rows of those that stay at their place."""
    for position, processor in enumerate(strip.chain):
        values = {"kind": processor.kind, "bypassed": processor.bypassed}
        values["parameters"] = processor.model_dump(mode="json", exclude={"kind", "bypassed"})
        held = row.processors.filter(position=position).first()
        if held:
            Processor.objects.filter(pk=held.pk).update(**values)
        else:
            Processor.objects.create(strip=row, position=position, **values)
    row.processors.filter(position__gte=len(strip.chain)).delete()
