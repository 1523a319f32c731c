"""Between the rows of the database and the mix as frozen data.

Both ways, and the difference as rows.
"""

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from django.db import connection, models
from pydantic import TypeAdapter, ValidationError

from metaphon.core.document import mix as doc
from metaphon.core.document.alternatives import Alternatives
from metaphon.core.document.breakpoints import Breakpoints
from metaphon.core.document.delivery_limits import DeliveryLimits
from metaphon.core.document.fold_down import FoldDown
from metaphon.core.document.marker import Marker
from metaphon.core.document.part import Part
from metaphon.core.errors import InputError
from metaphon.web.mixes import responses
from metaphon.web.mixes.models import (
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

Row = dict[str, Any]
Key = tuple[str, int]
Rows = dict[Key, Row]
Change = dict[str, Any]  # table, id, and the values before and after; None where there is no row
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
MODELS = {model.__name__: model for model, _ in TABLES}
_PLAIN_OF_MIX = ("title", "sample_rate_hz", "tempo_bpm", "start_timecode", "frame_rate")
# parts of a mix that are kept whole
_WHOLE: dict[str, TypeAdapter[Any]] = {
    "delivery": TypeAdapter(DeliveryLimits),
    "alternatives": TypeAdapter(Alternatives),
    "markers": TypeAdapter(tuple[Marker, ...]),
}
_PLACEMENT = tuple(doc.Placement.model_fields)
_GROUP = tuple(name for name in doc.Group.model_fields if name != "id")
_SEND = tuple(name for name in doc.Send.model_fields if name != "bus")
_CLIP = tuple(name for name in doc.Clip.model_fields if name != "file")
_PLAIN = (
    "name",
    "colour",
    "note",
    "resting",
    "muted",
    "soloed",
    "solo_safe",
    "gain_db",
)  # the same in rows and document
Files = Callable[[int], Path]
AudioIds = Callable[[Path], int]


def _columns(part: type[Part], prefix: str) -> dict[str, str]:
    """The columns of a part of a mix that has no table of its own: its fields by column."""
    return {prefix + name: name for name in part.model_fields}


def _as_columns(part: Part, prefix: str) -> Row:
    return {prefix + name: getattr(part, name) for name in type(part).model_fields}


def _from_columns(part: type[Part], prefix: str, row: Row) -> Row:
    return {name: row[column] for column, name in _columns(part, prefix).items()}


def rows_of(mix: Mix) -> Rows:
    """Everything that a mix is made of, as plain values by table and id."""
    names = (*_PLAIN_OF_MIX, *_columns(FoldDown, "fold_"), *_WHOLE)
    rows: Rows = {("Mix", mix.pk): {name: getattr(mix, name) for name in names}}
    for model, way in TABLES:
        for row in model._default_manager.filter(**{way: mix.pk}).order_by().values():
            rows[model.__name__, row["id"]] = row
    return rows


@dataclass
class Index:
    """Which rows make up what of a mix: the ids in each table, in the order of the document."""

    strips: dict[str, int] = field(default_factory=dict)
    groups: dict[str, int] = field(default_factory=dict)
    lanes: dict[str, int] = field(default_factory=dict)
    targets: dict[str, int] = field(default_factory=dict)
    placements: dict[int, int] = field(default_factory=dict)
    processors: dict[int, list[int]] = field(default_factory=dict)
    clips: dict[int, list[int]] = field(default_factory=dict)
    sends: dict[int, dict[int, int]] = field(default_factory=dict)

    @classmethod
    def of(cls, rows: Rows) -> "Index":
        """Of all rows of a mix."""
        found = cls()
        ordered = sorted(rows.items(), key=lambda item: (item[1].get("position", 0), item[0][1]))
        for (table, key), row in ordered:
            match table:
                case "Strip":
                    found.strips[row["ref"]] = key
                case "Group":
                    found.groups[row["ref"]] = key
                case "Automation":
                    found.lanes[row["target"]] = key
                case "Target":
                    found.targets[row["name"]] = key
                case "Placement":
                    found.placements[row["strip_id"]] = key
                case "Processor":
                    found.processors.setdefault(row["strip_id"], []).append(key)
                case "Clip":
                    found.clips.setdefault(row["track_id"], []).append(key)
                case "Send":
                    found.sends.setdefault(row["source_id"], {})[row["bus_id"]] = key
        return found


def document_from(
    rows: Rows,
    index: Index,
    files: Files,
    known: dict[str, Any] | None = None,
    lanes: dict[str, Any] | None = None,
) -> doc.Mix:
    """The mix that rows make.

    `known` and `lanes` are strips and lanes that need not be read anew, by id and target. Raises
    InputError where the rows do not hang together.
    """
    known, lanes = known or {}, lanes or {}
    refs = {key: ref for ref, key in index.strips.items()}
    groups = {key: ref for ref, key in index.groups.items()}
    tracks: list[Any] = []
    buses: list[Any] = []
    try:
        for ref, key in index.strips.items():
            row = rows["Strip", key]
            strip = known.get(ref) or _strip_from(rows, row, index, files, refs, groups)
            (tracks if row["kind"] == Strip.Kind.TRACK else buses).append(strip)
        own = next(row for (table, _), row in rows.items() if table == "Mix")
        mix = doc.Mix.model_construct(
            **{name: own[name] for name in _PLAIN_OF_MIX},
            tracks=tuple(tracks),
            buses=tuple(buses),
            groups=tuple(
                doc.Group(id=ref, **{name: rows["Group", key][name] for name in _GROUP})
                for ref, key in index.groups.items()
            ),
            automation=tuple(
                lanes.get(target)
                or doc.Automation(
                    target=target, points=Breakpoints.unpacked(rows["Automation", key]["points"])
                )
                for target, key in sorted(index.lanes.items())
            ),
            targets=tuple(index.targets),
            fold_down=FoldDown.model_validate(_from_columns(FoldDown, "fold_", own)),
            **{name: kind.validate_python(own[name]) for name, kind in _WHOLE.items()},
        )
        doc.hangs_together(mix)
    except (ValidationError, ValueError) as error:
        if isinstance(error, InputError):
            raise
        raise InputError(
            f"{own['title'] if 'own' in locals() else 'The mix'} does not hang together: {error}"
        ) from None
    return mix


def _strip_from(
    rows: Rows, row: Row, index: Index, files: Files, refs: dict[int, str], groups: dict[int, str]
) -> doc.Strip:
    key = row["id"]
    placement = rows["Placement", index.placements[key]]
    processors = [rows["Processor", one] for one in index.processors.get(key, ())]
    sends = [rows["Send", one] for one in index.sends.get(key, {}).values()]
    said = {
        **{name: row[name] for name in _PLAIN},
        "id": row["ref"],
        "group": groups.get(row["group_id"]),
        "chain": tuple(
            {"kind": p["kind"], "bypassed": p["bypassed"], **responses.found(p["parameters"])}
            for p in processors
        ),
        "sends": tuple(
            {"bus": refs[send["bus_id"]], **{name: send[name] for name in _SEND}} for send in sends
        ),
        "lfe": _from_columns(doc.LfeSend, "lfe_", row),
        "output": doc.PROGRAMME if row["to_programme"] else refs.get(row["output_bus_id"]),
        "placement": {name: placement[name] for name in _PLACEMENT},
    }
    if row["kind"] == Strip.Kind.BUS:
        return doc.Bus.model_validate({**said, "layout": row["layout"]})
    clips = (rows["Clip", one] for one in index.clips.get(key, ()))
    return doc.Track.model_validate(
        {
            **said,
            "clips": tuple(
                {
                    "file": files(clip["audio_id"]),
                    **{name: clip[name] for name in _CLIP if name in clip},
                }
                for clip in clips
            ),
            "layout": row["layout"],
            "print_of": refs.get(row["print_of_id"]),
            "take": row["take"],
        }
    )


def new_ids(model: type[models.Model], count: int) -> list[int]:
    """Ids that no row of a table has or will be given."""
    with connection.cursor() as cursor:
        cursor.execute(
            "SELECT nextval(pg_get_serial_sequence(%s, 'id')) FROM generate_series(1, %s)",
            [model._meta.db_table, count],
        )
        return [row[0] for row in cursor.fetchall()]


class Difference:
    """What must change in the rows of a mix for it to say another document."""

    def __init__(self, mix_id: int, rows: Rows, index: Index, audio_ids: AudioIds) -> None:
        self._mix_id = mix_id
        self._rows = rows
        self._index = index
        self._audio_ids = audio_ids
        self.changes: list[Change] = []

    def between(self, before: doc.Mix, after: doc.Mix) -> list[Change]:
        """The changes from one document to the next.

        What is the same object in both is not looked at.
        """
        own = {
            **{name: getattr(after, name) for name in _PLAIN_OF_MIX},
            **_as_columns(after.fold_down, "fold_"),
            **{
                name: kind.dump_python(getattr(after, name), mode="json")
                for name, kind in _WHOLE.items()
            },
        }
        self._set("Mix", self._mix_id, own)
        groups = self._named("Group", self._index.groups, [group.id for group in after.groups])
        strips = self._named("Strip", self._index.strips, [strip.id for strip in after.strips])
        for group in after.groups:
            values = {
                "mix_id": self._mix_id,
                "ref": group.id,
                **{name: getattr(group, name) for name in _GROUP},
            }
            self._set("Group", groups[group.id], values)
        old = {strip.id: (place, strip) for place, strip in _placed(before)}
        for place, strip in _placed(after):
            if strip.id not in old or old[strip.id][1] is not strip:
                self._strip(place, strip, strips, groups)
            elif old[strip.id][0] != place:
                self._set("Strip", strips[strip.id], {"position": place})
        self._lanes(before, after)
        targets = self._named("Target", self._index.targets, after.targets)
        for place, name in enumerate(after.targets):
            self._set(
                "Target", targets[name], {"mix_id": self._mix_id, "name": name, "position": place}
            )
        self._gone(after)
        return self.changes

    def _named(self, table: str, held: dict[str, int], wanted: Iterable[str]) -> dict[str, int]:
        """The ids of rows by name, new ones for names that are new."""
        fresh = [name for name in wanted if name not in held]
        return {
            **held,
            **dict(zip(fresh, new_ids(MODELS[table], len(fresh)) if fresh else (), strict=True)),
        }

    def _set(self, table: str, key: int, values: Row) -> None:
        old = self._rows.get((table, key))
        if old is None:
            self.changes.append(
                {"table": table, "id": key, "before": None, "after": {"id": key, **values}}
            )
            return
        changed = [name for name, value in values.items() if old[name] != value]
        if changed:
            self.changes.append(
                {
                    "table": table,
                    "id": key,
                    "before": {name: old[name] for name in changed},
                    "after": {name: values[name] for name in changed},
                }
            )

    def _remove(self, table: str, key: int) -> None:
        self.changes.append(
            {"table": table, "id": key, "before": self._rows[table, key], "after": None}
        )

    def _strip(
        self, place: int, strip: doc.Strip, strips: dict[str, int], groups: dict[str, int]
    ) -> None:
        key = strips[strip.id]
        track = strip if isinstance(strip, doc.Track) else None
        self._set(
            "Strip",
            key,
            {
                "mix_id": self._mix_id,
                "kind": Strip.Kind.TRACK if track else Strip.Kind.BUS,
                "ref": strip.id,
                "position": place,
                **{name: getattr(strip, name) for name in _PLAIN},
                **_as_columns(strip.lfe, "lfe_"),
                "group_id": groups.get(str(strip.group)),
                "print_of_id": strips.get(str(track.print_of)) if track else None,
                "take": track.take if track else 0,
                "to_programme": strip.output == doc.PROGRAMME,
                "output_bus_id": strips.get(str(strip.output)),
                "layout": strip.layout if isinstance(strip, doc.Bus | doc.Track) else "",
            },
        )
        placement = {name: getattr(strip.placement, name) for name in _PLACEMENT}
        placement["excluded"] = list(strip.placement.excluded)
        self._set(
            "Placement",
            self._id("Placement", self._index.placements.get(key)),
            {"strip_id": key, **placement},
        )
        chain = [
            {
                "kind": p.kind,
                "bypassed": p.bypassed,
                "parameters": responses.kept(
                    p.model_dump(mode="json", exclude={"kind", "bypassed"})
                ),
            }
            for p in strip.chain
        ]
        self._listed(
            "Processor",
            self._index.processors.get(key, []),
            [{"strip_id": key, "position": n, **values} for n, values in enumerate(chain)],
        )
        self._listed(
            "Clip",
            self._index.clips.get(key, []),
            [
                {
                    "track_id": key,
                    "position": n,
                    "audio_id": self._audio_ids(clip.file),
                    **{name: getattr(clip, name) for name in _CLIP},
                }
                for n, clip in enumerate(track.clips if track else ())
            ],
        )
        held = self._index.sends.get(key, {})
        for send in strip.sends:
            values = {
                "source_id": key,
                "bus_id": strips[send.bus],
                **{name: getattr(send, name) for name in _SEND},
            }
            self._set("Send", self._id("Send", held.get(strips[send.bus])), values)
        for bus in held.keys() - {strips[send.bus] for send in strip.sends}:
            self._remove("Send", held[bus])

    def _id(self, table: str, held: int | None) -> int:
        return held if held is not None else new_ids(MODELS[table], 1)[0]

    def _listed(self, table: str, held: list[int], wanted: list[Row]) -> None:
        """Rows that have a place in a list.

        Those at the same place are changed, the others made or taken away.
        """
        more = len(wanted) - len(held)
        keys = [*held, *(new_ids(MODELS[table], more) if more > 0 else ())]
        for key, values in zip(keys, wanted, strict=False):
            self._set(table, key, values)
        for key in held[len(wanted) :]:
            self._remove(table, key)

    def _lanes(self, before: doc.Mix, after: doc.Mix) -> None:
        old = {lane.target: lane for lane in before.automation}
        keys = self._named(
            "Automation", self._index.lanes, [lane.target for lane in after.automation]
        )
        for lane in after.automation:
            if old.get(lane.target) is not lane and old.get(lane.target) != lane:
                values = {
                    "mix_id": self._mix_id,
                    "target": lane.target,
                    "points": lane.points.packed(),
                }
                self._set("Automation", keys[lane.target], values)

    def _gone(self, after: doc.Mix) -> None:
        strips = {strip.id for strip in after.strips}
        for ref, key in self._index.strips.items():
            if ref in strips:
                continue
            if key in self._index.placements:
                self._remove("Placement", self._index.placements[key])
            for table, held in (
                ("Processor", self._index.processors.get(key, [])),
                ("Clip", self._index.clips.get(key, [])),
                ("Send", list(self._index.sends.get(key, {}).values())),
            ):
                for one in held:
                    self._remove(table, one)
            self._remove("Strip", key)
        for table, names, kept in (
            ("Automation", self._index.lanes, {lane.target for lane in after.automation}),
            ("Target", self._index.targets, set(after.targets)),
            ("Group", self._index.groups, {group.id for group in after.groups}),
        ):
            for name in names.keys() - kept:
                self._remove(table, names[name])


def _placed(mix: doc.Mix) -> Iterator[tuple[int, doc.Strip]]:
    """Every track with its place among the tracks, every bus with its place among the buses."""
    yield from enumerate(mix.tracks)
    yield from enumerate(mix.buses)


def with_changes(rows: Rows, changes: Iterable[Change], forward: bool = True) -> Rows:
    """The rows after changes, or before them; what the database would hold.

    A row kept by an earlier version has what its table has got since at its default.
    """
    towards = "after" if forward else "before"
    found = dict(rows)
    for change in changes if forward else reversed(list(changes)):
        key, values = (change["table"], change["id"]), change[towards]
        if values is None:
            found.pop(key, None)
        else:
            found[key] = {**(found.get(key) or _defaults(change["table"])), **values}
    return found


def _defaults(table: str) -> Row:
    fields = MODELS[table]._meta.concrete_fields
    return {field.attname: field.get_default() for field in fields if not field.primary_key}


_OWNERS = {
    "Clip": ("track_id",),
    "Send": ("source_id", "bus_id"),
    "Processor": ("strip_id",),
    "Placement": ("strip_id",),
}
_REFERENCES = {"group_id": "Group", "print_of_id": "Strip", "output_bus_id": "Strip"}


def dangling(rows: Rows) -> list[Change]:
    """What must go because what it belongs to or refers to is not among the rows."""
    refs = {row["ref"] for (table, _), row in rows.items() if table == "Strip"}
    found: list[Change] = []
    for (table, key), row in rows.items():
        lost = any(("Strip", row[name]) not in rows for name in _OWNERS.get(table, ()))
        if lost or (table == "Automation" and row["target"].split("/", 1)[0] not in refs):
            found.append({"table": table, "id": key, "before": row, "after": None})
        elif table == "Strip":
            gone = [
                n
                for n, other in _REFERENCES.items()
                if row[n] is not None and (other, row[n]) not in rows
            ]
            if gone:
                before = {name: row[name] for name in gone}
                found.append(
                    {"table": table, "id": key, "before": before, "after": dict.fromkeys(gone)}
                )
    return found


def write(changes: list[Change]) -> None:
    """Bring the database to what changes say: makes rows, then changes them, then takes away."""
    order = list(MODELS)
    made = [
        change for change in changes if change["after"] is not None and change["before"] is None
    ]
    for change in sorted(made, key=lambda change: order.index(change["table"])):
        MODELS[change["table"]](**change["after"]).save(force_insert=True)
    for change in changes:
        if change["after"] is not None and change["before"] is not None:
            model = Mix if change["table"] == "Mix" else MODELS[change["table"]]
            model._default_manager.filter(pk=change["id"]).update(**change["after"])
    gone = [change for change in changes if change["after"] is None]
    for change in sorted(gone, key=lambda change: -order.index(change["table"])):
        MODELS[change["table"]]._default_manager.filter(pk=change["id"]).delete()
