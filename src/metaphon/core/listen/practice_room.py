"""A simulated listening room that stands in for real loudspeakers, wired with faults.

And the calibration that finds them.
"""

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray
from scipy.fft import irfft, next_fast_len, rfft

from metaphon.core.listen.monitor import Loudspeaker, LoudspeakerSet
from metaphon.core.spatial.air import SPEED_OF_SOUND_M_S
from metaphon.core.spatial.ambisonics import encode
from metaphon.core.spatial.directions import unit_vectors
from metaphon.core.spatial.head import SHIPPED, load_head
from metaphon.core.spatial.layouts import layout_named

_NEAREST_M, _FARTHEST_M = 1.9, 2.3
_LATE_MS = 6.0
_SWEEP_S = 1.0
_NOISE = 1e-4
_ONSET = 0.3  # of the highest peak


@dataclass(frozen=True)
class Standing:
    """Where a loudspeaker really stands, to which output it is wired, and with what fault."""

    label: str
    output: int
    azimuth_deg: float
    elevation_deg: float
    distance_m: float
    late_ms: float = 0.0
    inverted: bool = False


def standing(layout: str) -> tuple[Standing, ...]:
    """The room as it is.

    The last pair at ear level has its cables crossed, the second loudspeaker is late.

    The first is wired with its poles reversed. Distances differ a little, as in any room.
    """
    named = layout_named(layout)
    level = [i for i in named.main if named.angles_deg[i][1] == 0.0]
    crossed = {level[-1]: level[-2], level[-2]: level[-1]} if len(level) > 3 else {}
    found = []
    for i, label in enumerate(named.labels):
        azimuth, elevation = named.angles_deg[i]
        away = _NEAREST_M + (_FARTHEST_M - _NEAREST_M) * ((i * 5) % 7) / 6
        found.append(
            Standing(
                label,
                crossed.get(i, i) + 1,
                azimuth,
                elevation,
                away,
                _LATE_MS if i == 1 else 0.0,
                i == 0,
            )
        )
    return tuple(found)


@lru_cache(maxsize=16)
def ear_responses(layout: str, rate_hz: int) -> NDArray[np.float32]:
    """What a listener in the room hears of each output, (outputs, 2, taps)."""
    rows = sorted(standing(layout), key=lambda row: row.output)
    head = load_head(SHIPPED, rate_hz)
    responses = head.responses(
        unit_vectors([r.azimuth_deg for r in rows], [r.elevation_deg for r in rows])
    )
    return _placed(responses, rows, rate_hz)


def _microphone_responses(layout: str, rate_hz: int) -> NDArray[np.float32]:
    """What a first-order microphone at the listener's place picks up of each output, (outputs, 4.

    Taps).
    """
    rows = sorted(standing(layout), key=lambda row: row.output)
    gains = encode(
        np.array([r.azimuth_deg for r in rows]), np.array([r.elevation_deg for r in rows]), 1
    )
    pulse = np.zeros((len(rows), 4, 64))
    pulse[:, :, 16] = gains
    return _placed(pulse, rows, rate_hz)


def _placed(
    responses: NDArray[np.floating], rows: list[Standing], rate_hz: int
) -> NDArray[np.float32]:
    late = [
        round((row.distance_m / SPEED_OF_SOUND_M_S + row.late_ms / 1000.0) * rate_hz)
        for row in rows
    ]
    out = np.zeros(
        (len(rows), responses.shape[1], responses.shape[2] + max(late)), dtype=np.float32
    )
    for i, (row, at) in enumerate(zip(rows, late, strict=True)):
        out[i, :, at : at + responses.shape[2]] = (
            responses[i] * (2.0 / row.distance_m) * (-1 if row.inverted else 1)
        )
    return out


@dataclass(frozen=True)
class Measured:
    """What the microphone found of one output."""

    output: int
    delay_ms: float
    level_db: float
    inverted: bool
    azimuth_deg: float
    elevation_deg: float


def measure(layout: str, rate_hz: int) -> list[Measured]:
    """Play a sweep from every output in turn.

    Finds when it arrives, how loud, which way up and from where. Exponential sweep, deconvolved by
    division (Farina 2000); direction from the intensity of the first arrival.
    """
    frames = round(_SWEEP_S * rate_hz)
    time = np.arange(frames) / rate_hz
    rise = np.log(20000.0 / 40.0)
    sweep = 0.5 * np.sin(
        2 * np.pi * 40.0 * _SWEEP_S / rise * (np.exp(time / _SWEEP_S * rise) - 1.0)
    )
    random = np.random.default_rng(2)
    found = []
    for output, responses in enumerate(_microphone_responses(layout, rate_hz), start=1):
        size = next_fast_len(frames + responses.shape[1], real=True)
        played = rfft(sweep, size)
        picked_up = (
            irfft(played * rfft(responses, size), size) + random.standard_normal((4, size)) * _NOISE
        )
        power = np.abs(played) ** 2
        heard = irfft(rfft(picked_up, size) * np.conj(played) / (power + power.max() * 1e-5), size)[
            :, :frames
        ]
        at = int(np.argmax(np.abs(heard[0]) > _ONSET * np.abs(heard[0]).max()))
        first = heard[:, at : at + 48]
        peak = first[0, int(np.argmax(np.abs(first[0])))]
        w, y, z, x = first
        flow = np.array([w @ y, w @ z, w @ x])
        azimuth, elevation = (
            np.degrees(np.arctan2(flow[0], flow[2])),
            np.degrees(np.arcsin(flow[1] / np.linalg.norm(flow))),
        )
        at += int(np.argmax(np.abs(first[0])))
        level = 20.0 * np.log10(abs(peak))
        found.append(
            Measured(
                output, (at - 16) / rate_hz * 1000.0, level, bool(peak < 0), azimuth, elevation
            )
        )
    return found


def calibrated(chosen: LoudspeakerSet, rate_hz: int) -> tuple[LoudspeakerSet, list[str]]:
    """The settings that mend what was measured, and what was found in a sentence each."""
    layout = layout_named(chosen.layout)
    found = measure(chosen.layout, rate_hz)
    places = layout.vectors
    last, loudest = max(m.delay_ms for m in found), min(m.level_db for m in found)
    usual = float(np.median([m.delay_ms for m in found]))
    told: list[str] = []
    rows: list[Loudspeaker | None] = [None] * layout.channels
    for one in found:
        if layout.is_lfe[one.output - 1]:
            place = one.output - 1  # low frequencies do not tell where they come from
        else:
            here = unit_vectors(one.azimuth_deg, one.elevation_deg)
            place = max(layout.main, key=lambda i: float(places[i] @ here))
        label = layout.labels[place]
        if place != one.output - 1:
            told.append(
                f"Output {one.output} ({layout.labels[one.output - 1]}) plays from "
                f"{label}: crossed cables."
            )
        if one.inverted:
            told.append(f"{label} has its polarity reversed.")
        if one.delay_ms - usual > 2.0:
            told.append(f"{label} is {one.delay_ms - usual:.1f} ms later than the others.")
        rows[place] = Loudspeaker(
            trim_db=round(max(loudest - one.level_db, -24.0), 1),
            delay_ms=round(last - one.delay_ms, 2),
            inverted=one.inverted,
            output=one.output,
        )
    mended = tuple(row or Loudspeaker() for row in rows)
    return chosen.model_copy(update={"loudspeakers": mended, "aligned": False}), told
