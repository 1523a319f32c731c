"""From rows to the scene that the core works on, and from a scene to new rows."""

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from django.core.files.storage import default_storage
from django.db import models

from metaphon.core.files.mixdoc import parse
from metaphon.core.scene import left_out
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


# the tables of a mix, in the order in which rows may be made; each with its way to the mix
TABLES: tuple[tuple[type[models.Model], str], ...] = (
    (Group, "mix"),
    (Strip, "mix"),
    (Clip, "track__mix"),
    (Send, "source__mix"),
    (Processor, "strip__mix"),
    (Placement, "strip__mix"),
    (Automation, "mix"),
    (Target, "mix"),
)
MIX_FIELDS = ("title", "sample_rate_hz")
Row = dict[str, Any]
Rows = dict[tuple[str, int], Row]


def rows_of(mix: Mix) -> Rows:
    """Everything that a mix is made of, as plain values by table and id."""
    rows: Rows = {("Mix", mix.pk): {name: getattr(mix, name) for name in MIX_FIELDS}}
    for model, way in TABLES:
        for row in model._default_manager.filter(**{way: mix.pk}).order_by().values():
            rows[model.__name__, row["id"]] = row
    return rows


def scene_of(mix: Mix) -> scene.Mix:
    """The whole mix as frozen data, its files absolute. Raises InputError where the rows do not hang together."""
    return scene_from(mix, rows_of(mix))


def missing_from_targets(mix: Mix, document: scene.Mix) -> dict[str, list[str]]:
    """What each of the mix's targets will not contain, by the target's name, in a sentence each."""
    clips = Clip.objects.filter(track__mix=mix).values_list("track__ref", "audio__channels")
    return left_out.told(document, dict(clips))


def checked(mix: Mix, rows: Rows) -> None:
    """Raises InputError where rows do not hang together, or their routing runs in a loop."""
    ordered(scene_from(mix, rows))


def scene_from(mix: Mix, rows: Rows) -> scene.Mix:
    """The scene that rows make; raises InputError as `scene_of` does."""
    tables: dict[str, dict[int, Row]] = {name: {} for name in ("Mix", *(model.__name__ for model, _ in TABLES))}
    for (table, key), row in rows.items():
        tables[table][key] = row
    files = dict(AudioFile.objects.filter(mix=mix).values_list("pk", "file"))
    strips = sorted(tables["Strip"].values(), key=lambda row: (row["position"], row["id"]))
    about = _About(
        {key: row["ref"] for key, row in tables["Strip"].items()},
        {key: row["ref"] for key, row in tables["Group"].items()},
        _gathered(tables["Processor"], "strip_id", lambda row: (row["position"], row["id"])),
        _gathered(
            tables["Send"], "source_id", lambda row: (tables["Strip"][row["bus_id"]]["position"], row["id"])
        ),
        _gathered(tables["Clip"], "track_id", lambda row: (row["start_s"], row["id"])),
        {row["strip_id"]: row for row in tables["Placement"].values()},
        files,
    )  # fmt: skip
    own = tables["Mix"][mix.pk]
    return parse(
        {
            "format": "metaphon-mix",
            **own,
            "tracks": [_track(row, about) for row in strips if row["kind"] == Strip.Kind.TRACK],
            "buses": [{**_strip(row, about), "layout": row["layout"]} for row in strips if row["kind"] == Strip.Kind.BUS],
            "groups": [
                {name: row[name] for name in _GROUP} | {"id": row["ref"]}
                for _, row in sorted(tables["Group"].items())
            ],
            "automation": sorted(
                ({"target": row["target"], "points": row["points"]} for row in tables["Automation"].values()),
                key=lambda lane: str(lane["target"]),
            ),
            "targets": [
                row["name"] for row in sorted(tables["Target"].values(), key=lambda row: (row["position"], row["id"]))
            ],
        },
        str(own["title"]),
    )  # fmt: skip


@dataclass(frozen=True)
class _About:
    """What the rows of a mix say of its strips, each by the strip's id."""

    refs: dict[int, str]
    groups: dict[int, str]
    chains: dict[int, list[Row]]
    sends: dict[int, list[Row]]
    clips: dict[int, list[Row]]
    placements: dict[int, Row]
    files: dict[int, str]


def _gathered(rows: dict[int, Row], owner: str, order: Callable[[Row], Any]) -> dict[int, list[Row]]:
    found: dict[int, list[Row]] = {}
    for row in sorted(rows.values(), key=order):
        found.setdefault(row[owner], []).append(row)
    return found


def _strip(row: Row, about: _About) -> dict[str, object]:
    key = row["id"]
    return {
        **{name: row[name] for name in _PLAIN},
        "id": row["ref"],
        "group": about.groups.get(row["group_id"]),
        "chain": [{"kind": p["kind"], "bypassed": p["bypassed"], **p["parameters"]} for p in about.chains.get(key, ())],
        "sends": [{"bus": about.refs[s["bus_id"]], **{name: s[name] for name in _SEND}} for s in about.sends.get(key, ())],
        "output": scene.PROGRAMME if row["to_programme"] else about.refs.get(row["output_bus_id"]),
        "placement": {name: about.placements[key][name] for name in _PLACEMENT},
    }  # fmt: skip


def _track(row: Row, about: _About) -> dict[str, object]:
    clips = [
        {"file": Path(default_storage.path(about.files[clip["audio_id"]])), "start_s": clip["start_s"]}
        for clip in about.clips.get(row["id"], ())
    ]
    return {**_strip(row, about), "clips": clips}


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
