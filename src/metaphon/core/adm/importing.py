"""A file with an audio definition made into a mix with its own recordings."""

import re
import struct
from dataclasses import dataclass, replace
from pathlib import Path as FilePath
from typing import Any

import numpy as np
from numpy.typing import NDArray

from metaphon.core.adm.model import Definition, Element, Loudspeaker, Path, Programme
from metaphon.core.adm.reading import from_xml, rows_of
from metaphon.core.document.alternatives import (
    Alternative,
    Alternatives,
    Variation,
    Varied,
    is_language,
)
from metaphon.core.document.breakpoints import CURVES, MOST_POINTS, Breakpoints
from metaphon.core.document.mix import Automation, Clip, Mix, Placement, Track
from metaphon.core.document.positions import FORMS, Coordinates
from metaphon.core.document.value_paths import range_of_field, within
from metaphon.core.errors import InputError
from metaphon.core.files.audio import AudioWriter, ClipReader, probe
from metaphon.core.files.broadcast_wave import time_reference_samples
from metaphon.core.files.channel_labels import layout_told
from metaphon.core.files.wave_chunks import chunk, chunks
from metaphon.core.foreign import reads_foreign
from metaphon.core.spatial.layouts import LAYOUTS, Layout

_STRETCH = 1 << 16
_SAYS_LAYOUT_FROM = 3  # channels; fewer are mono and stereo
_STEEP_SAMPLES = 2.5  # what moves in less is a step
_DECIMALS = 6
_HOLD = CURVES.index("hold")


def has_definition(path: FilePath) -> bool:
    """Whether a file says what its channels are."""
    return any(kind in (b"axml", b"chna") for kind, _, _ in chunks(path))


@dataclass(frozen=True)
class Claims:
    """What a recording says of itself: when it began in samples, its layout, whether it is ADM."""

    time_reference_samples: int | None
    layout: str
    is_defined: bool


@reads_foreign
def claims_of(path: FilePath, channels: int, container: str) -> Claims:
    """Read what a recording says of itself; an empty layout where it does not say."""
    says_layout = container in ("WAV", "FLAC") and channels >= _SAYS_LAYOUT_FROM
    return Claims(
        time_reference_samples(path),
        layout_told(path, channels) if says_layout else "",
        container == "WAV" and has_definition(path),
    )


def definition_of(path: FilePath) -> Definition:
    """What a file says of its channels.

    Raises InputError where it has no audio definition, or one that cannot be read.
    """
    text = chunk(path, b"axml")
    table = chunk(path, b"chna")
    if text is None and table is None:
        raise InputError(
            f"{path.name} has no audio definition (axml, chna); bring it in as a recording."
        )
    form = chunk(path, b"fmt ") or b""
    channels = struct.unpack("<H", form[2:4])[0] if len(form) >= 4 else 0
    rows = rows_of(table) if table else []
    shown = (text or b"<none/>").decode("utf-8", errors="replace").strip("\0 \r\n\t\ufeff")
    return from_xml(shown, rows, channels)


@reads_foreign
def import_file(path: FilePath, folder: FilePath, name: str = "") -> tuple[Mix, tuple[str, ...]]:
    """Make a mix of a file with an audio definition.

    Parameters
    ----------
    path
        The file.
    folder
        Where the recordings of the mix are written, one for each bed, scene and object.
    name
        What to call the mix; by its programme where empty.

    Returns
    -------
        The mix, with the files it names, and what could not be taken over, in sentences.

    Raises
    ------
    InputError
        Where the file cannot be read, in one sentence.
    """
    definition = definition_of(path)
    info = probe(path)
    folder.mkdir(parents=True, exist_ok=True)
    notes, parts = list(definition.notes), []
    for number, element in enumerate(definition.elements):
        parts += [(number, *part) for part in _parts(element, notes)]
    tracks, lanes = [], []
    ids: set[str] = set()
    elements: dict[str, int] = {}
    wanted, levels = [], []
    for number, part, place, order in parts:
        own = _free_id(part.name, ids)
        elements[own] = number
        file = folder / f"{own}.wav"
        wanted.append((file, [part.channels[n] if n is not None else None for n in order]))
        level_db, clip_db = _levels(part, notes)
        levels.append(part.channel_gains)
        tracks.append(
            Track(
                id=own,
                name=part.name[:120] or own,
                gain_db=level_db,
                resting=part.gain_db <= -120.0,
                muted=number in definition.programmes[0].absent,
                clips=(
                    Clip(
                        file=file,
                        start_s=part.start_s,
                        in_s=part.start_s,
                        length_s=part.duration_s,
                        gain_db=clip_db,
                    ),
                ),
                placement=place,
                layout=place.layout if place.mode == "bed" and len(order) > 2 else "",
            )
        )
        if part.paths:
            lanes += _lanes(own, part.paths[0], part.start_s, level_db, info.sample_rate_hz)
    _write(path, wanted, levels, info.sample_rate_hz)
    title = (name or definition.programmes[0].name).strip()[:120] or "Untitled"
    mix = Mix(
        title=title,
        sample_rate_hz=info.sample_rate_hz,
        tracks=tuple(tracks),
        automation=tuple(lanes),
        alternatives=_alternatives(definition, elements),
    )
    return mix, tuple(notes)


def _alternatives(definition: Definition, elements: dict[str, int]) -> Alternatives:
    """What a file says of other programmes and of listeners, of tracks by their elements."""
    main, *others = definition.programmes

    def variation(track: str, number: int, one: Programme) -> Variation:
        heard = number not in one.absent
        same = heard == (number not in main.absent)
        gain_db = one.gains_db.get(number, 0.0) - main.gains_db.get(number, 0.0)
        return Variation(
            strip=track,
            heard="as_in_mix" if same else "heard" if heard else "silent",
            gain_db=within(Variation.model_fields["gain_db"], gain_db),
        )

    programmes = []
    for n, one in enumerate(others, start=1):
        found = (variation(track, number, one) for track, number in elements.items())
        kept = tuple(v for v in found if v.heard != "as_in_mix" or v.gain_db)
        language = one.language if is_language(one.language) else ""
        programmes.append(
            Alternative(
                id=f"programme_{n + 1}", name=one.name[:80], language=language, variations=kept
            )
        )
    differing = {v.strip for one in programmes for v in one.variations}
    varied = []
    for track, number in elements.items():
        told = definition.elements[number].varied
        if told or track in differing:
            own = told or Varied(strip=track)
            varied.append(own.model_copy(update={"strip": track}))
    language = main.language if is_language(main.language) else ""
    return Alternatives(language=language, varied=tuple(varied), programmes=tuple(programmes))


_Part = tuple[Element, Placement, list[int | None]]


def _parts(element: Element, notes: list[str]) -> list[_Part]:
    """What an element becomes: itself, where it stands, and the order of its channels."""
    if element.kind == "bed":
        return _bed(element, notes)
    if element.kind == "scene":
        order = list(range(len(element.channels)))
        return [(element, Placement(mode="scene"), [*order])]
    found: list[_Part] = []
    for n, path in enumerate(element.paths):
        count = f" {n + 1}" if len(element.paths) > 1 else ""
        own = _with(element, f"{element.name}{count}", (element.channels[n],), (path,))
        found.append((own, _placement(own, path), [0]))
    return found


def _with(
    element: Element, name: str, channels: tuple[int, ...], paths: tuple[Path, ...]
) -> Element:
    return replace(
        element,
        name=name,
        channels=channels,
        loudspeakers=(),
        paths=paths,
        order=0,
        channel_gains=(),
        content="",
        varied=None,
    )


def _bed(element: Element, notes: list[str]) -> list[_Part]:
    labels = [speaker.label for speaker in element.loudspeakers]
    if len(labels) == 2 and not any(labels):  # a binaural pair
        labels = ["M+030", "M-030"]
    layout = _layout_of(labels)
    if layout is not None:
        order = [labels.index(label) if label in labels else None for label in layout.labels]
        gains = (
            tuple(1.0 if n is None else element.channel_gains[n] for n in order)
            if element.channel_gains
            else ()
        )
        own = replace(element, channel_gains=gains)
        return [(own, Placement(mode="bed", layout=layout.name), order)]
    notes.append(
        f"{element.name}: its loudspeakers are those of no layout; each is an object in its place."
    )
    found: list[_Part] = []
    for n, speaker in enumerate(element.loudspeakers):
        name = f"{element.name} {speaker.label or n + 1}"
        own = _with(element, name, (element.channels[n],), ())
        if speaker.is_lfe:
            lfe = LAYOUTS["0+5+0"]
            order = [0 if low else None for low in lfe.is_lfe]
            found.append(
                (
                    _of_one(own, element, n, len(order)),
                    Placement(mode="bed", layout=lfe.name),
                    order,
                )
            )
        else:
            found.append((_of_one(own, element, n, 1), _stands(speaker), [0]))
    return found


def _of_one(own: Element, whole: Element, channel: int, count: int) -> Element:
    """A loudspeaker of a bed by itself, with its gain."""
    gains = (whole.channel_gains[channel],) * count if whole.channel_gains else ()
    return replace(own, channel_gains=gains)


def _stands(speaker: Loudspeaker) -> Placement:
    return Placement(
        mode="object", azimuth_deg=speaker.azimuth_deg, elevation_deg=speaker.elevation_deg
    )


def _layout_of(labels: list[str]) -> Layout | None:
    """The smallest layout that has all of these loudspeakers, each once."""
    if len(set(labels)) < len(labels):
        return None
    fits = [one for one in LAYOUTS.values() if set(labels) <= set(one.labels)]
    return min(fits, key=lambda one: one.channels, default=None)


def _placement(element: Element, path: Path) -> Placement:
    form: Coordinates = "cube" if path.in_room else "sphere"
    values = {
        name: _within(name, float(value))
        for name, value in zip(FORMS[form], path.values[:, 0], strict=True)
    }
    outermost = np.abs(path.values[:3]).max(axis=0) if path.in_room else np.zeros(1)
    more: dict[str, Any] = {
        "divergence": _within("divergence", float(path.divergence[0])),
        "diffuseness": _within("diffuseness", float(path.diffuseness[0])),
        "divergence_range_deg": _within("divergence_range_deg", element.divergence_range_deg),
        "importance": min(max(element.importance, 0), 10),
        "snap": element.snap,
        "excluded": element.excluded,
        # what lies on the walls of the room all the time is no nearer than they are
        "on_sphere": bool(np.all(outermost > 1.0 - 1e-6)),
    }
    return Placement(mode="object", coordinates=form, **values, **more)


def _within(name: str, value: float) -> float:
    if name == "azimuth_deg":
        value = 180.0 - (180.0 - value) % 360.0
    return round(within(Placement.model_fields[name], value), _DECIMALS)


def _levels(part: Element, notes: list[str]) -> tuple[float, float]:
    """The gain of a track and that of its clip, in dB, for that of an element."""
    level_db = within(Track.model_fields["gain_db"], part.gain_db)
    clip_db = within(Clip.model_fields["gain_db"], max(part.gain_db - level_db, 0.0))
    most_db = level_db + clip_db
    if part.gain_db - most_db > 1e-6:
        notes.append(
            f"{part.name}: {part.gain_db:.1f} dB is more than can be; it is held at {most_db:g}."
        )
    return level_db, clip_db


def _lanes(
    strip: str, path: Path, start_s: float, level_db: float, rate_hz: int
) -> list[Automation]:
    """The lanes of what moves of an object, its gain on top of that of its track."""
    form: Coordinates = "cube" if path.in_room else "sphere"
    rows = dict(zip(FORMS[form], path.values, strict=True))
    rows |= {"divergence": path.divergence, "diffuseness": path.diffuseness}
    found = []
    for name, values in rows.items():
        if np.ptp(values) < 10.0**-_DECIMALS:
            continue
        held = np.array([_within(name, float(value)) for value in values])
        points = _points(path.times_s + start_s, held, rate_hz)
        found.append(Automation(target=f"{strip}/placement/{name}", points=points))
    if np.ptp(path.gain) > 0.0 or path.gain[0] != 1.0:
        times, gains = _finer(path.times_s, path.gain)
        levels = np.where(gains > 0.0, 20.0 * np.log10(np.maximum(gains, 1e-6)), -120.0)
        low, high = range_of_field(Track.model_fields["gain_db"]) or (-120.0, 12.0)
        held = np.clip(np.round(levels + level_db, _DECIMALS), low, high)
        points = _points(times + start_s, held, rate_hz)
        found.append(Automation(target=f"{strip}/gain_db", points=points))
    return found


def _finer(
    times_s: NDArray[np.float64], gains: NDArray[np.float64]
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """A line of amplitudes at so many times that it is as straight in dB between them."""
    more = [times_s]
    for n in range(len(times_s) - 1):
        low, high = sorted(gains[n : n + 2])
        if high > low:
            steps = 64 if low < 0.05 * high else 16
            more.append(np.linspace(times_s[n], times_s[n + 1], steps + 1)[1:-1])
    every = np.unique(np.concatenate(more))
    fine = np.interp(every, times_s, gains)
    # where two blocks meet in a jump there are two values at one time
    twice = np.flatnonzero(np.diff(times_s) == 0.0)
    for n in map(int, twice):
        place = int(np.searchsorted(every, times_s[n]))
        every = np.insert(every, place, times_s[n])
        fine = np.insert(fine, place, gains[n])
        fine[place + 1] = gains[n + 1]
    return every, fine


def _points(times_s: NDArray[np.float64], values: NDArray[np.float64], rate_hz: int) -> Breakpoints:
    """Breakpoints of a line with steps, which are held up to where they are."""
    times: list[float] = []
    kept: list[float] = []
    curves: list[int] = []
    for n, (time_s, value) in enumerate(zip(times_s, values, strict=True)):
        last = n + 1 == len(times_s)
        steep = not last and (times_s[n + 1] - time_s) * rate_hz < _STEEP_SAMPLES
        if steep and values[n + 1] != value and kept and kept[-1] == value:
            curves[-1] = _HOLD  # up to the step, which comes next
            continue
        if not last and kept and len(times) > 1 and kept[-1] == kept[-2] == value:
            times[-1] = float(time_s)  # still the same
            continue
        times.append(float(time_s))
        kept.append(float(value))
        curves.append(0)
    if len(times) > MOST_POINTS:
        raise InputError(f"An object moves at more than {MOST_POINTS} places; thin it out.")
    return Breakpoints(times, kept, curves)


def _write(
    path: FilePath,
    wanted: list[tuple[FilePath, list[int | None]]],
    levels: list[tuple[float, ...]],
    rate_hz: int,
) -> None:
    """Write channels of a file to files of their own, in 32-bit float, so that nothing is lost.

    `levels` are amplitudes of the channels of a bed or scene, empty where all are 1.
    """
    reader = ClipReader(path)
    writers = [AudioWriter(file, len(order), rate_hz, "32f") for file, order in wanted]
    try:
        for at in range(0, reader.frames, _STRETCH):
            block = reader.read(at, min(_STRETCH, reader.frames - at))
            nothing = np.zeros(block.shape[1], dtype=np.float32)
            for writer, (_, order), gains in zip(writers, wanted, levels, strict=True):
                rows = [nothing if place is None else block[place] for place in order]
                stacked = np.stack(rows)
                writer.add(stacked * np.array(gains, np.float32)[:, None] if gains else stacked)
    except BaseException as error:
        for writer in writers:
            writer.__exit__(type(error), error, None)
        raise
    finally:
        reader.close()
    for writer in writers:
        writer.__exit__(None, None, None)


def _free_id(name: str, taken: set[str]) -> str:
    plain = re.sub(r"[^a-z0-9]+", "_", name.lower()).strip("_")[:40] or "track"
    found, n = plain, 2
    while found in taken:
        found, n = f"{plain}_{n}", n + 1
    taken.add(found)
    return found
