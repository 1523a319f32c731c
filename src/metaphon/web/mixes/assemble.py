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
    Mix,
    Placement,
    Processor,
    Send,
    Strip,
    Target,
)

_PLACEMENT = tuple(scene.Placement.model_fields)


def local_path(file: AudioFile) -> Path:
    """Where a recording lies on this machine."""
    return Path(default_storage.path(str(file.file.name)))


def scene_of(mix: Mix) -> scene.Mix:
    """The whole mix as frozen data, its files absolute. Raises InputError where the rows do not hang together."""
    strips = list(
        mix.strips.select_related("placement", "output_bus").prefetch_related(
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
        "id": strip.ref,
        "name": strip.name,
        "muted": strip.muted,
        "gain_db": strip.gain_db,
        "chain": [{"kind": p.kind, **p.parameters} for p in strip.processors.all()],
        "sends": [{"bus": s.bus.ref, "level_db": s.level_db, "tap": s.tap} for s in strip.sends.all()],
        "output": output,
        "placement": {name: getattr(strip.placement, name) for name in _PLACEMENT},
    }


def _track(strip: Strip) -> dict[str, object]:
    clips = [{"file": local_path(clip.audio), "start_s": clip.start_s} for clip in strip.clips.all()]
    return {**_strip(strip), "resting": strip.resting, "clips": clips}


def unpack(document: scene.Mix, mix: Mix, recording: Callable[[Path], AudioFile]) -> None:
    """Make the rows of a scene in an empty mix; `recording` brings a file in and gives its row."""
    rows: dict[str, Strip] = {}
    for position, strip in enumerate(document.strips):
        rows[strip.id] = Strip.objects.create(
            mix=mix,
            kind=Strip.Kind.BUS if isinstance(strip, scene.Bus) else Strip.Kind.TRACK,
            ref=strip.id,
            name=strip.name,
            position=position,
            muted=strip.muted,
            resting=isinstance(strip, scene.Track) and strip.resting,
            gain_db=strip.gain_db,
            to_programme=strip.output == scene.PROGRAMME,
            layout=strip.layout if isinstance(strip, scene.Bus) else "",
        )
    for strip in document.strips:
        row = rows[strip.id]
        if strip.output in rows:
            Strip.objects.filter(pk=row.pk).update(output_bus=rows[str(strip.output)])
        Placement.objects.create(strip=row, **strip.placement.model_dump())
        for send in strip.sends:
            Send.objects.create(source=row, bus=rows[send.bus], level_db=send.level_db, tap=send.tap)
        for position, processor in enumerate(strip.chain):
            parameters = processor.model_dump(exclude={"kind"})
            Processor.objects.create(strip=row, position=position, kind=processor.kind, parameters=parameters)
        for clip in strip.clips if isinstance(strip, scene.Track) else ():
            Clip.objects.create(track=row, audio=recording(clip.file), start_s=clip.start_s)
    for lane in document.automation:
        Automation.objects.create(mix=mix, target=lane.target, points=[p.model_dump() for p in lane.points])
    for position, name in enumerate(document.targets):
        Target.objects.create(mix=mix, name=name, position=position)
