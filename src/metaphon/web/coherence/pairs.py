"""Two tracks of a mix, or the sides of one, held against each other as they are mixed."""

from dataclasses import dataclass, replace
from functools import lru_cache
from pathlib import Path
from typing import Any
from urllib.parse import urlencode

import numpy as np
from django.http import QueryDict
from numpy.typing import NDArray

from metaphon.core.checks.sound import SIDES, Sound, delay_and_polarity
from metaphon.core.document.mix import Clip, Track
from metaphon.core.document.mix import Mix as Document
from metaphon.core.document.part import LATEST_S
from metaphon.core.document.value_paths import range_of_field, value_at
from metaphon.core.edits.chain_places import basics_place
from metaphon.core.edits.typed_values import read_number
from metaphon.core.engine.clips import placed
from metaphon.core.errors import InputError
from metaphon.core.measure.alignment import follow
from metaphon.core.measure.pair import Pair, drawn, pair_of
from metaphon.core.process.all_pass import AllPass, best_rotation
from metaphon.core.process.basics import Basics
from metaphon.web.coherence.axis import HIGH, path_over, place_of, ticks
from metaphon.web.jobs.models import Survey
from metaphon.web.jobs.surveying import findings_of
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.recordings import draw
from metaphon.web.mixes.snapshots import recordings_of
from metaphon.web.mixes.waves import COLUMNS, PeaksOf, as_path, extremes, loudest_column

SPAN_S = 10.0  # what is analysed
WIDTHS_S = (0.01, 0.05, 0.2, 1.0, 5.0, 30.0, 120.0, 600.0, 3600.0)
_LOWEST_DB = -30.0
_NEAR = 0.02  # ms and below: at once
_WORTH_DB = 0.2  # what a rotation must gain to be offered
_DELAYS_MS = range_of_field(Basics.model_fields["delay_ms"]) or (0.0, 0.0)
LIKELY = "likely"  # in place of a group: all that are likely pairs of the first


@dataclass(frozen=True)
class Chosen:
    """What is compared and how it is looked at. Without times the loudest span is taken."""

    first: str
    other: str
    first_side: str = ""
    other_side: str = ""
    from_s: float | None = None
    at_s: float | None = None
    width_s: float = 0.05
    delay_ms: float | None = None  # of the mend that is tried; what is found where it is None
    inverted: bool = False
    rotation_hz: float | None = None  # of an all-pass that is tried on the other
    rotation_order: str = "1"
    rotation_q: float = 0.7

    @property
    def rotation(self) -> AllPass | None:
        """The all-pass that is tried."""
        if self.rotation_hz is None:
            return None
        return AllPass.model_validate(
            {
                "frequency_hz": self.rotation_hz,
                "order": self.rotation_order,
                "q": self.rotation_q,
            }
        )

    @property
    def query(self) -> str:
        """The same as the address of the page says it."""
        given = {name: value for name, value in vars(self).items() if value not in (None, "")}
        given["inverted"] = "on" if self.inverted else ""
        return urlencode({name: value for name, value in given.items() if value != ""})


def chosen_from(given: QueryDict, document: Document, offered: list[dict[str, Any]]) -> Chosen:
    """What an address asks for; the likeliest pair where it names none. Raises InputError."""
    tracks = [track.id for track in document.tracks if track.clips and not track.resting]
    if len(tracks) < 2:
        raise InputError("Two recordings are needed to be held against each other; bring them in.")
    best = offered[0] if offered else {"first": tracks[0], "other": tracks[1]}
    first, other = given.get("first") or best["first"], given.get("other") or best["other"]
    if first not in tracks or other not in tracks:
        raise InputError("One of these tracks is no longer in the mix; choose another.")

    def side(name: str) -> str:
        wanted = str(given.get(name, best.get(name, "") if "first" not in given else ""))
        return wanted if wanted in SIDES else ""

    def number(name: str, label: str, low: float, high: float) -> float | None:
        text = given.get(name, "").strip()
        return read_number(text, label, low, high) if text else None

    return Chosen(
        first,
        other,
        side("first_side"),
        side("other_side"),
        number("from_s", "The span analysed", 0.0, LATEST_S),
        number("at_s", "The time shown", 0.0, LATEST_S),
        number("width_s", "The width shown", WIDTHS_S[0], WIDTHS_S[-1]) or 0.05,
        number("delay_ms", "The delay", *_DELAYS_MS),
        given.get("inverted") == "on",
        number("rotation_hz", "The frequency of the rotation", 20.0, 20000.0),
        "2" if given.get("rotation_order") == "2" else "1",
        number("rotation_q", "The Q of the rotation", 0.1, 10.0) or 0.7,
    )


def offered_pairs(mix: Mix, document: Document) -> list[dict[str, Any]]:
    """The pairs that the last survey found likely, those that are still there."""
    survey = Survey.objects.filter(mix=mix).first()
    names = {track.id: track.name for track in document.tracks if not track.resting}
    kept = survey.pairs if survey else []
    found = [pair for pair in kept if {pair["first"], pair["other"]} <= names.keys()]
    asked = ("first", "other", "first_side", "other_side")
    return [
        {
            **pair,
            "first_name": _named(names[pair["first"]], pair["first_side"]),
            "other_name": _named(names[pair["other"]], pair["other_side"]),
            "query": urlencode({name: pair[name] for name in asked}),
        }
        for pair in found
    ]


def likely(mix: Mix, document: Document, given: QueryDict) -> dict[str, Any]:
    """What the list of likely pairs shows."""
    offered = offered_pairs(mix, document)
    shown: dict[str, Any] = {"offered": offered, "fresh": findings_of(mix).fresh}
    try:
        chosen = chosen_from(given, document, offered)
    except InputError:  # fewer than two tracks
        return shown
    return {**shown, "chosen": chosen, "query": chosen.query}


def _named(name: str, side: str) -> str:
    return f"{name}, {side}" if side else name


def shown(mix: Mix, document: Document, given: QueryDict) -> dict[str, Any]:
    """All that the page shows of a pair."""
    offered = offered_pairs(mix, document)
    tracks = [track for track in document.tracks if track.clips and not track.resting]
    context: dict[str, Any] = {
        **likely(mix, document, given),
        "tracks": tracks,
        "sides": tuple(SIDES),
    }
    try:
        chosen = chosen_from(given, document, offered)
    except InputError as error:
        return {**context, "said": str(error)}
    by_id = {track.id: track for track in tracks}
    first, other = by_id[chosen.first], by_id[chosen.other]
    sound = Sound(document)
    recordings = recordings_of(mix)

    def peaks_of(path: Path) -> Path:
        return draw(recordings[path])

    start_s = _start_s(sound, (first, other), peaks_of) if chosen.from_s is None else chosen.from_s
    pair = _pair(document, first, other, chosen, round(start_s * sound.rate_hz))
    mend_ms, mend_inverted = _mend(pair, chosen)
    turned = pair
    if chosen.rotation:
        response = chosen.rotation.response(pair.frequencies_hz, sound.rate_hz)
        turned = pair.through(response)
    delayed = pair.moved(mend_ms, mend_inverted)
    rotation, rotation_db = best_rotation(delayed, sound.rate_hz)
    return {
        **context,
        **_mends(document, first, other, mend_ms, mend_inverted, chosen.rotation),
        **_charts(pair, turned, mend_ms, mend_inverted),
        **_waves(sound, (first, other), chosen, peaks_of, start_s, mend_ms, mend_inverted),
        "chosen": chosen,
        "query": chosen.query,
        "first": first,
        "other": other,
        "first_name": _named(first.name, chosen.first_side),
        "other_name": _named(other.name, chosen.other_side),
        "pair": pair,
        "sure": pair.is_one_sound,
        "samples": pair.found.delay_ms * sound.rate_hz / 1000.0 if pair.found else 0.0,
        "correlation": pair.correlation(),
        "mended_correlation": turned.correlation(mend_ms, mend_inverted),
        "gain_db": turned.gain_db(mend_ms, mend_inverted, against=pair),
        "rotation": rotation
        if pair.is_one_sound and rotation_db > _WORTH_DB and not chosen.rotation
        else None,
        "rotation_db": rotation_db,
        "groups": _groups(document, first, offered),
        "mend_ms": mend_ms,
        "mend_inverted": mend_inverted,
        "start_s": start_s,
        "span_s": SPAN_S,
        "widths": WIDTHS_S,
    }


def _pair(document: Document, first: Track, other: Track, chosen: Chosen, start: int) -> Pair:
    """The pair over the span, as the chains delay, turn over and rotate its recordings now."""
    raw = _compared(
        document.sample_rate_hz,
        (first.clips, chosen.first_side),
        (other.clips, chosen.other_side),
        start,
    )
    (ahead_ms, one), (late_ms, two) = (
        delay_and_polarity(track, side)
        for track, side in ((first, chosen.first_side), (other, chosen.other_side))
    )
    turned = raw.moved(late_ms - ahead_ms, one != two)
    for track in (first, other):
        for processor in track.chain:
            if isinstance(processor, AllPass) and not processor.bypassed:
                response = processor.response(raw.frequencies_hz, document.sample_rate_hz)
                turned = turned.through(response if track is other else np.conj(response))
    return turned


_Part = tuple[tuple[Clip, ...], str]  # the clips of a track, and which side of it


@lru_cache(maxsize=32)
def _compared(rate_hz: int, one: _Part, two: _Part, start: int) -> Pair:
    """The recordings of two tracks over the span; kept, since a mend that is tried changes none."""
    parts = [
        (Track(id=key, name=key, clips=clips), side)
        for key, (clips, side) in (("a", one), ("b", two))
    ]
    sound = Sound(
        Document(title="Pair", sample_rate_hz=rate_hz, tracks=tuple(track for track, _ in parts))
    )
    frames = round(SPAN_S * rate_hz)
    first, other = (sound.side(track, side, start, frames) for track, side in parts)
    return pair_of(first, other, rate_hz)


def _mend(pair: Pair, chosen: Chosen) -> tuple[float, bool]:
    """The delay of the other that is tried: as typed, or what makes both one."""
    if chosen.delay_ms is not None:
        return chosen.delay_ms, chosen.inverted
    if pair.found is None or not pair.is_one_sound:
        return 0.0, False
    late = pair.found.delay_ms
    return (0.0 if abs(late) < _NEAR else -round(late, 4)), pair.found.inverted


def _start_s(sound: Sound, tracks: tuple[Track, Track], peaks_of: PeaksOf) -> float:
    """Where both are loudest together for as long as is analysed."""
    length_s = max(*(_length_s(sound, track) for track in tracks), SPAN_S)
    frames = round(length_s * sound.rate_hz)
    levels = [
        np.abs(extremes(sound, track, "", peaks_of, 0, frames)).max(axis=0) for track in tracks
    ]
    each = np.minimum(*(level / max(level.max(), 1e-9) for level in levels)) ** 2
    span = max(round(SPAN_S / length_s * COLUMNS), 1)
    return round(loudest_column(each, span) * length_s / COLUMNS, 2)


def _length_s(sound: Sound, track: Track) -> float:
    return max(
        ((clip.first + clip.frames) / sound.rate_hz for clip in placed(track, sound.rate_hz)),
        default=0.0,
    )


def _groups(
    document: Document, first: Track, offered: list[dict[str, Any]]
) -> list[tuple[str, str]]:
    """What can be aligned to the first at once: its group, others, its likely pairs."""
    found = [(group.id, group.name) for group in document.groups]
    likely = any(first.id in (pair["first"], pair["other"]) for pair in offered)
    return [*found, *([(LIKELY, "its likely pairs")] if likely else [])]


def group_command(
    mix: Mix, document: Document, chosen: Chosen, wanted: str
) -> tuple[dict[str, Any], str]:
    """The command that aligns all of a group to the first, and what became of each, in words.

    Raises InputError where none has anything in common with it.
    """
    by_id = {track.id: track for track in document.tracks if track.clips and not track.resting}
    first = by_id[chosen.first]
    if wanted == LIKELY:
        both = [(pair["first"], pair["other"]) for pair in offered_pairs(mix, document)]
        ids = {one for pair in both if first.id in pair for one in pair}
    else:
        ids = {track.id for track in by_id.values() if track.group == wanted}
    sound = Sound(document)
    recordings = recordings_of(mix)
    steps: list[dict[str, Any]] = []
    moved, left = [], []
    for other in [by_id[one] for one in by_id if one in ids and one != first.id]:
        asked = replace(chosen, other=other.id, other_side="", delay_ms=None, rotation_hz=None)
        start_s = chosen.from_s
        if start_s is None:
            start_s = _start_s(sound, (first, other), lambda path: draw(recordings[path]))
        pair = _pair(document, first, other, asked, round(start_s * sound.rate_hz))
        if not pair.is_one_sound:
            left.append(other.name)
            continue
        mend_ms, inverted = _mend(pair, asked)
        if mend_ms or inverted:
            steps += _steps(document, other, mend_ms, inverted)
        moved.append(other.name)
    if not moved:
        raise InputError(f"None of these has anything in common with {first.name}.")
    said = f"{', '.join(moved)} aligned to {first.name}."
    if left:
        said += f" Nothing in common: {', '.join(left)}."
    if not steps:
        raise InputError(f"All that have something in common with {first.name} are in time.")
    words = f"Aligned {len(moved)} to {first.name}"
    return {"kind": "batch", "commands": steps, "words": words}, said


def follow_command(
    document: Document, chosen: Chosen, span_s: tuple[float, float], most_ms_a_s: float
) -> dict[str, Any]:
    """The command that draws the delay of the other as a lane, so that it stays with the first.

    Raises InputError where they have nothing in common.
    """
    by_id = {track.id: track for track in document.tracks}
    first, other = by_id[chosen.first], by_id[chosen.other]
    sound = Sound(document)
    start, frames = round(span_s[0] * sound.rate_hz), round((span_s[1] - span_s[0]) * sound.rate_hz)
    one, two = (
        sound.side(track, side, start, frames)
        for track, side in ((first, chosen.first_side), (other, chosen.other_side))
    )
    times_s, late_ms, inverted = follow(one, two, sound.rate_hz, most_ms_a_s)
    if not len(times_s):
        raise InputError(f"{other.name} and {first.name} have nothing in common in this span.")
    (ahead_ms, up), (_, turned) = (
        delay_and_polarity(track, side)
        for track, side in ((first, chosen.first_side), (other, chosen.other_side))
    )
    delays = np.clip(ahead_ms - late_ms, *_DELAYS_MS)
    place = basics_place(document, other.id)
    head = {"strips": [other.id], "kind": "set"}
    points = [
        {"t_s": round(float(t), 4), "value": round(float(delay), 4)}
        for t, delay in zip(times_s + span_s[0], delays, strict=True)
    ]
    commands: list[dict[str, Any]] = [
        {**head, "path": "basics/delay_ms", "value": points[0]["value"]},
        {
            "kind": "draw_lane",
            "strip": other.id,
            "path": f"chain/{place or 0}/delay_ms",
            "points": points,
            "into": True,
        },
    ]
    if inverted != (up != turned):
        value = not _held(document, other, "polarity_inverted", False)
        commands.append({**head, "path": "basics/polarity_inverted", "value": value})
    return {
        "kind": "batch",
        "commands": commands,
        "words": f"{other.name} follows {first.name}",
    }


def _held(document: Document, track: Track, name: str, otherwise: Any) -> Any:
    place = basics_place(document, track.id)
    return otherwise if place is None else value_at(track, ("chain", place, name))


def _steps(document: Document, track: Track, by_ms: float, inverted: bool) -> list[dict[str, Any]]:
    """The commands that delay a track by so much more, and turn it over."""
    delay = round(float(_held(document, track, "delay_ms", 0.0)) + by_ms, 4)
    turned = bool(_held(document, track, "polarity_inverted", False)) != inverted
    steps: list[tuple[str, Any]] = [("basics/delay_ms", delay)] if by_ms else []
    steps += [("basics/polarity_inverted", turned)] if inverted else []
    return [
        {"kind": "set", "strips": [track.id], "path": path, "value": value} for path, value in steps
    ]


def _mends(
    document: Document,
    first: Track,
    other: Track,
    mend_ms: float,
    inverted: bool,
    rotation: AllPass | None,
) -> dict[str, Any]:
    """The commands that move the other by the mend, or the first the other way."""

    def command(track: Track, by_ms: float) -> dict[str, Any]:
        steps = _steps(document, track, by_ms, inverted)
        if rotation:  # whichever of them is delayed, it is the other that is turned
            place = len(other.chain)
            if steps and track.id == other.id and basics_place(document, other.id) is None:
                place += 1
            head = f"chain/{place}"
            steps.append({"kind": "add_processor", "strip": other.id, "processor": "all_pass"})
            steps += [
                {
                    "kind": "set",
                    "strips": [other.id],
                    "path": f"{head}/{name}",
                    "value": getattr(rotation, name),
                }
                for name in ("frequency_hz", "order", "q")
            ]
        return {"kind": "batch", "commands": steps, "words": f"Aligned {track.name}"}

    if rotation and not mend_ms and not inverted:
        only = {
            "words": f"Rotate {other.name}",
            "costs": "Every level stays; its phase turns about this frequency.",
            "command": command(other, 0.0),
        }
        return {"mends": [only]}
    if not mend_ms and not inverted:
        return {"mends": []}
    early, late, turned = "Pull {} forward", "Hold {} back", "Turn {} over"
    words = (early, late) if mend_ms < 0 else (late, early) if mend_ms else (turned, turned)
    costs = {
        early: "All else stays in time; the engine works as much further ahead.",
        late: "No working ahead, but it then comes later against everything else.",
        turned: "In phase with the other, and opposed to what it was in phase with.",
    }
    moves = ((words[0], other, mend_ms), (words[1], first, -mend_ms))
    return {
        "mends": [
            {"words": say.format(track.name), "costs": costs[say], "command": command(track, by_ms)}
            for say, track, by_ms in moves
        ]
    }


def _charts(pair: Pair, turned: Pair, mend_ms: float, inverted: bool) -> dict[str, Any]:
    """The sum now and with the mend, against both in phase, and the coherence, by frequency."""
    curves = {}
    for name, one, mend in (("now", pair, (0.0, False)), ("then", turned, (mend_ms, inverted))):
        power = 10.0 ** (one.sum_db(*mend) / 10.0)
        at, mean = drawn(pair.frequencies_hz, power)
        level = 10.0 * np.log10(np.maximum(mean, 1e-6))
        curves[name] = path_over(at, np.clip(level / _LOWEST_DB, 0.0, 1.0) * HIGH)
    at, coherence = drawn(pair.frequencies_hz, pair.coherence)
    curves["coherence"] = path_over(at, (1.0 - coherence) * HIGH)
    notch = pair.first_notch_hz
    return {
        "curves": curves,
        "ticks": ticks(),
        "levels": [(f"−{db}" if db else "0", -db / _LOWEST_DB * HIGH) for db in (0, 10, 20, 30)],
        "notch": notch,
        "notch_x": place_of(notch) if notch and 20.0 <= notch <= 20000.0 else None,
    }


def _waves(
    sound: Sound,
    tracks: tuple[Track, Track],
    chosen: Chosen,
    peaks_of: PeaksOf,
    start_s: float,
    mend_ms: float,
    inverted: bool,
) -> dict[str, Any]:
    """Both drawn over one another, each as high as the other; below, the other with the mend."""
    frames = max(round(chosen.width_s * sound.rate_hz), 8)
    at_s = chosen.at_s
    if at_s is None:
        at_s = _loudest_s(sound, tracks[0], chosen, start_s, frames)
    start = round(at_s * sound.rate_hz)
    moved = round(mend_ms * sound.rate_hz / 1000.0)

    def drawn_at(track: Track, side: str, first: int) -> NDArray[np.float64]:
        before = max(-first, 0)
        found = extremes(sound, track, side, peaks_of, max(first, 0), frames)
        return found if not before else np.roll(found, round(before / frames * COLUMNS), axis=1)

    one = drawn_at(tracks[0], chosen.first_side, start)
    two = drawn_at(tracks[1], chosen.other_side, start)
    then = drawn_at(tracks[1], chosen.other_side, start - moved)
    if inverted:
        then = -then[::-1]
    return {
        "wave_one": as_path(one, 44.0),
        "wave_two": as_path(two, 44.0),
        "wave_then": as_path(then, 44.0),
        "at_s": round(at_s, 4),
        "width_s": chosen.width_s,
        "earlier_s": round(max(at_s - chosen.width_s / 2, 0.0), 5),
        "later_s": round(at_s + chosen.width_s / 2, 5),
    }


def _loudest_s(sound: Sound, track: Track, chosen: Chosen, start_s: float, frames: int) -> float:
    """Where the first is loudest within the span, a third of the way into what is shown."""
    span = round(SPAN_S * sound.rate_hz)
    samples = sound.side(track, chosen.first_side, round(start_s * sound.rate_hz), span)
    loudest = start_s + int(np.argmax(np.abs(samples))) / sound.rate_hz
    return max(loudest - frames / sound.rate_hz / 3.0, 0.0)
