"""Between the rows of the database and the mix as frozen data.

What points at what is in columns; the values of each row are one column, as the core writes them.
"""

from collections import defaultdict
from collections.abc import Iterable
from functools import cache
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from metaphon.core.document import mix as doc
from metaphon.core.document.part import Part
from metaphon.core.errors import InputError
from metaphon.web.mixes.models import (
    Clip,
    Mix,
    Send,
    SpaceResponse,
    Strip,
    StripResponse,
)
from metaphon.web.mixes.stored_files import KEPT, SHIPPED

# fields that are columns, or rows of their own
_APART: dict[type[Part], set[str]] = {
    doc.Mix: {"format", "version", *("tracks", "buses", "groups", "automation")}
    | {"title", "sample_rate_hz"},
    doc.Track: {"id", "group", "output", "print_of", "sends", "clips"},
    doc.Bus: {"id", "group", "output", "sends"},
    doc.Group: {"id"},
    doc.Clip: {"file"},
    doc.Send: {"bus"},
}


def values_of(part: Part) -> dict[str, Any]:
    """What the column of a part's values holds."""
    return part.model_dump(mode="json", context=KEPT, exclude=_APART[type(part)])


def read_document(mix: Mix) -> doc.Mix:
    """The mix that rows make. Raises InputError where they do not hang together."""
    strips = list(mix.strips.all())
    refs = {strip.pk: strip.ref for strip in strips}
    groups = list(mix.groups.all())
    group_refs = {group.pk: group.ref for group in groups}
    clips: dict[int, list[dict[str, Any]]] = defaultdict(list)
    for clip in Clip.objects.filter(track__mix=mix).select_related("audio"):
        clips[clip.track_id].append({"file": clip.audio.file.name, **clip.values})
    sends: dict[int, list[dict[str, Any]]] = defaultdict(list)
    for send in Send.objects.filter(source__mix=mix):
        sends[send.source_id].append({"bus": refs[send.bus_id], **send.values})

    def told(strip: Strip) -> dict[str, Any]:
        shared = {
            "id": strip.ref,
            "group": group_refs.get(strip.group_id or 0),
            "output": doc.PROGRAMME if strip.to_programme else refs.get(strip.output_bus_id or 0),
            "sends": sends[strip.pk],
            **strip.values,
        }
        if strip.kind == Strip.Kind.BUS:
            return shared
        return {**shared, "print_of": refs.get(strip.print_of_id or 0), "clips": clips[strip.pk]}

    try:
        return doc.Mix.model_validate(
            {
                "title": mix.title,
                "sample_rate_hz": mix.sample_rate_hz,
                "tracks": [told(strip) for strip in strips if strip.kind == Strip.Kind.TRACK],
                "buses": [told(strip) for strip in strips if strip.kind == Strip.Kind.BUS],
                "groups": [{"id": group.ref, **group.values} for group in groups],
                "automation": list(mix.automation.values("target", "points")),
                **mix.values,
            },
            context=KEPT,
        )
    except ValidationError as error:
        raise InputError(f"{mix.title} does not hang together: {error}") from None


class _Writer:
    """Brings the rows of a mix from one document to another; what is the same object stays."""

    def __init__(self, mix: Mix, before: doc.Mix, after: doc.Mix) -> None:
        self._mix, self._before, self._after = mix, before, after
        self._strip_ids = cache(lambda: dict(mix.strips.values_list("ref", "pk")))
        self._group_ids = cache(lambda: dict(mix.groups.values_list("ref", "pk")))
        self._audio_ids = cache(lambda: dict(mix.audio_files.values_list("file", "pk")))

    def write(self) -> None:
        """Groups first, since strips are in them; what points at strips when all are there."""
        self._write_mix()
        self._write_groups()
        before, after = self._before, self._after
        olds = _placed(before.tracks) | _placed(before.buses)
        news = _placed(after.tracks) | _placed(after.buses)
        gone = [
            ref for ref, (_, old) in olds.items() if type(news.get(ref, _NONE)[1]) is not type(old)
        ]
        if gone:
            self._mix.strips.filter(ref__in=gone).delete()
        changed = []
        for ref, (place, strip) in news.items():
            old_place, old = olds[ref] if ref in olds and ref not in gone else _NONE
            if old is None:
                self._mix.strips.create(
                    ref=ref, kind=_kind(strip), position=place, values=values_of(strip)
                )
            elif old is not strip and (values := values_of(strip)) != values_of(old):
                self._mix.strips.filter(ref=ref).update(values=values, position=place)
            elif old_place != place:
                self._mix.strips.filter(ref=ref).update(position=place)
            if old is not strip:
                changed.append((old, strip))
        for old, strip in changed:
            self._point(old, strip)
        self._write_lanes()

    def _write_mix(self) -> None:
        before, after = self._before, self._after
        same = all(getattr(before, name) is getattr(after, name) for name in _OWN_VALUES)
        if same and self._mix.values:
            return
        self._mix.title, self._mix.sample_rate_hz = after.title, after.sample_rate_hz
        self._mix.values = values_of(after)
        self._mix.save(update_fields=["title", "sample_rate_hz", "values"])

    def _write_groups(self) -> None:
        olds, news = _placed(self._before.groups), _placed(self._after.groups)
        if olds.keys() - news.keys():
            self._mix.groups.filter(ref__in=olds.keys() - news.keys()).delete()
        for ref, (place, group) in news.items():
            if olds.get(ref) != (place, group):
                self._mix.groups.update_or_create(
                    ref=ref, defaults={"position": place, "values": values_of(group)}
                )

    def _write_lanes(self) -> None:
        olds = _placed(self._before.automation, "target")
        news = _placed(self._after.automation, "target")
        if olds.keys() - news.keys():
            self._mix.automation.filter(target__in=olds.keys() - news.keys()).delete()
        for target, (place, lane) in news.items():
            old_place, old = olds.get(target, _NONE)
            if old is None:
                self._mix.automation.create(
                    target=target, position=place, points=lane.points.packed()
                )
            elif old is not lane and old != lane:
                self._mix.automation.filter(target=target).update(
                    position=place, points=lane.points.packed()
                )
            elif old_place != place:
                self._mix.automation.filter(target=target).update(position=place)

    def _point(self, old: doc.Strip | None, strip: doc.Strip) -> None:
        """Write what a strip points at: other strips, its group, recordings, responses."""
        if _points_at(strip) != (_points_at(old) if old else (None, doc.PROGRAMME, None)):
            strips = self._strip_ids()
            self._mix.strips.filter(ref=strip.id).update(
                group=self._group_ids()[strip.group] if strip.group else None,
                print_of=strips.get(_get(strip, "print_of") or ""),
                to_programme=strip.output == doc.PROGRAMME,
                output_bus=strips.get(strip.output or ""),
            )
        sends, clips, names = strip.sends, _get(strip, "clips") or (), _responses(strip)
        if sends != (old.sends if old else ()):
            key = self._strip_ids()[strip.id]
            Send.objects.filter(source=key).delete()
            Send.objects.bulk_create(
                Send(source_id=key, bus_id=self._strip_ids()[send.bus], values=values_of(send))
                for send in sends
            )
        if clips != ((_get(old, "clips") or ()) if old else ()):
            key = self._strip_ids()[strip.id]
            Clip.objects.filter(track=key).delete()
            Clip.objects.bulk_create(
                Clip(
                    track_id=key,
                    audio_id=self._audio_id(clip.file),
                    position=place,
                    values=values_of(clip),
                )
                for place, clip in enumerate(clips)
            )
        if names != (_responses(old) if old else set()):
            key = self._strip_ids()[strip.id]
            StripResponse.objects.filter(strip=key).delete()
            StripResponse.objects.bulk_create(
                StripResponse(strip_id=key, response=_response(name)) for name in names
            )

    def _audio_id(self, file: Path) -> int:
        found: int | None = self._audio_ids().get(KEPT.name_of(file))
        if found is None:
            raise InputError(f"The recording {file.name} is not in this mix; bring it in first.")
        return found


_NONE: tuple[int, Any] = (-1, None)
_OWN_VALUES = doc.Mix.model_fields.keys() - {"tracks", "buses", "groups", "automation"}


def write_document(mix: Mix, before: doc.Mix, after: doc.Mix) -> None:
    """Bring the rows of a mix from one document to another.

    Raises InputError for a recording or response that is not kept here.
    """
    _Writer(mix, before, after).write()


def _kind(strip: doc.Strip) -> Strip.Kind:
    return Strip.Kind.TRACK if isinstance(strip, doc.Track) else Strip.Kind.BUS


def _get(strip: doc.Strip, name: str) -> Any:
    return getattr(strip, name, None)


def _points_at(strip: doc.Strip) -> tuple[Any, ...]:
    return strip.group, strip.output, _get(strip, "print_of")


def _placed(parts: Iterable[Any], name: str = "id") -> dict[str, tuple[int, Any]]:
    """Parts of one list by their names, each with its place."""
    return {getattr(part, name): (place, part) for place, part in enumerate(parts)}


def _responses(strip: doc.Strip) -> set[str]:
    """The names of responses in a strip's chain that do not ship."""
    files = (getattr(processor, "file", None) for processor in strip.chain)
    names = (KEPT.name_of(file) for file in files if file is not None)
    return {name for name in names if not name.startswith(SHIPPED)}


def _response(name: str) -> SpaceResponse:
    found = SpaceResponse.objects.filter(file=name).first()
    if found is None:
        raise InputError(f"The response {Path(name).name} is not kept here; bring it in first.")
    return found
