"""How a space answers a click: decay times, clarity, definition and density of its reflections."""

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray
from scipy.signal import butter, sosfilt
from scipy.special import erfc

OCTAVES_HZ = (125.0, 250.0, 500.0, 1000.0, 2000.0, 4000.0, 8000.0)
_ONSET_DB = -20.0  # under its strongest sample, where the response begins
_FLOOR_DB = -120.0
_T20_DB, _T30_DB = 35.0, 45.0  # how far under its beginning the noise lies at least
_WINDOW_S = 0.01  # over which the level of a decay is told
_ABOVE_DB = 8.0  # of the noise: what of the decay is not yet it
_LEAST_WINDOWS, _LEAST_LINE, _ROUNDS = 12, 4, 5
_DENSITY_S = 0.02  # over which the density of reflections is told

Sound = NDArray[np.float64]


@dataclass(frozen=True)
class Decay:
    """The figures of one band, None where the response is too short or too weak to tell.

    `edt_s`, `t20_s` and `t30_s` are times to fall by 60 dB, by the first 10 dB, by -5 to -25 dB and
    by -5 to -35 dB; `c50_db` and `c80_db` early against late energy, `d50` early of all, 0 to 1.
    """

    edt_s: float | None
    t20_s: float | None
    t30_s: float | None
    c50_db: float | None
    c80_db: float | None
    d50: float | None

    @property
    def decay_s(self) -> float | None:
        """The time to fall by 60 dB, by the longest part that can be told."""
        return self.t30_s or self.t20_s or self.edt_s


@dataclass(frozen=True)
class RoomResponse:
    """A response told: the whole, its octaves (OCTAVES_HZ), its decay and its density over time.

    `curve_db` is the energy that is still to come, in dB of all, and `density` how nearly the
    reflections are as many as in noise (1), both at `times_s` from the onset on.
    """

    whole: Decay
    octaves: tuple[Decay, ...]
    times_s: Sound
    curve_db: Sound
    density: Sound


def room_response(impulse: NDArray[np.floating], rate_hz: int, points: int = 240) -> RoomResponse:
    """Tell a response to a click.

    Parameters
    ----------
    impulse
        Samples, (frames).
    rate_hz
        Of them.
    points
        How many times the decay and the density are told at.

    Returns
    -------
        Octaves above half the rate, and those the response has no energy in, tell nothing.

    References
    ----------
        ISO 3382-1:2009, annexes A and B: backward integration (M. R. Schroeder 1965), lines through
        it by least squares; octaves by IEC 61260-1 (Butterworth, third order), the response played
        backwards through them so that their own decay is not told (ISO 3382-1, 5.3.4). Density: J.
        S. Abel & P. Huang, A simple, robust measure of reverberation echo density, AES 121, 2006.
    """
    sound = np.asarray(impulse, dtype=np.float64)
    top = float(np.abs(sound).max(initial=0.0))
    begins = int(np.argmax(np.abs(sound) >= top * 10.0 ** (_ONSET_DB / 20.0))) if top else 0
    heard = sound[begins:]
    octaves = [
        _decay(_octave(sound, hertz, rate_hz)[begins:], rate_hz)
        if hertz * np.sqrt(2.0) < 0.5 * rate_hz
        else _NOTHING
        for hertz in OCTAVES_HZ
    ]
    times = np.linspace(0.0, len(heard) / rate_hz, points)
    fallen = decay_curve_db(heard, noise_floor(heard, rate_hz))
    curve = np.interp(times, np.arange(len(heard)) / rate_hz, fallen)
    return RoomResponse(
        _decay(heard, rate_hz),
        tuple(octaves),
        times,
        curve,
        _density(heard, times, rate_hz),
    )


class Floor(NamedTuple):
    """The noise that a response ends in: its mean power, and the frame at which it is reached.

    `decay_frames` is the decay before it, over 60 dB. Without noise the power is 0 and the frame
    the last one.
    """

    power: float
    knee: int
    decay_frames: float


def noise_floor(impulse: Sound, rate_hz: int) -> Floor:
    """Where the decay of a response ends and its noise begins.

    References
    ----------
        A. Lundeby, T. E. Vigran, H. Bietz & M. Vorlaender, Uncertainties of measurements in room
        acoustics, Acustica 81, 1995: the noise by the last tenth, the decay by a line above it,
        the knee where both meet; in turn until it stays.
    """
    nothing = Floor(0.0, len(impulse), 0.0)
    step = max(round(_WINDOW_S * rate_hz), 1)
    count = len(impulse) // step
    if count < _LEAST_WINDOWS:
        return nothing
    power = np.mean(np.square(impulse[: count * step]).reshape(count, step), axis=1)
    level = 10.0 * np.log10(np.maximum(power, 1e-30))
    tenth = max(count // 10, 2)
    noise = float(np.mean(power[-tenth:]))
    if noise <= 0.0:
        return nothing
    top, knee = int(np.argmax(level)), count
    slope = 0.0
    for _ in range(_ROUNDS):
        low_db = 10.0 * np.log10(noise) + _ABOVE_DB
        below = np.flatnonzero(level[top:] < low_db)
        last = top + (int(below[0]) if len(below) else count - top)
        if last - top < _LEAST_LINE:
            return nothing
        at = np.arange(top, last)
        slope, start = np.polyfit(at, level[top:last], 1)
        if slope >= 0.0:
            return nothing
        knee = int(np.clip((10.0 * np.log10(noise) - start) / slope, last, count))
        rest = power[min(knee + round(-_ABOVE_DB / slope), count - tenth) :]
        noise = float(np.mean(rest))
    # what still falls at the end as it did before is no noise
    ends = level[-tenth:].mean() - level[-2 * tenth : -tenth].mean()
    if ends < 0.3 * slope * tenth:
        return nothing
    return Floor(noise, knee * step, float(-60.0 / slope * step))


def decay_curve_db(impulse: Sound, floor: Floor | None = None) -> Sound:
    """The energy that is still to come at each sample, in dB of all of it.

    With a floor its noise is taken off, and what would have come after it put back.
    """
    power = np.square(impulse)
    if floor and floor.power:
        power = power - floor.power
        power[floor.knee :] = 0.0
        # beyond the knee the decay goes on from the level of the noise
        rest = floor.power * floor.decay_frames / (6.0 * np.log(10.0))
        power[min(floor.knee, len(power)) - 1] += rest
    energy = np.maximum(np.cumsum(power[::-1])[::-1], 0.0)
    whole = max(float(energy[0]) if len(energy) else 0.0, 1e-30)
    curve: Sound = 10.0 * np.log10(np.maximum(energy / whole, 10.0 ** (_FLOOR_DB / 10.0)))
    return curve


def decay_time_s(impulse: Sound, rate_hz: int) -> float | None:
    """The time to fall by 60 dB, by the longest part of the decay that can be told: T30, T20, EDT.

    None where there is none.
    """
    return _decay(impulse, rate_hz).decay_s


_NOTHING = Decay(None, None, None, None, None, None)


def _octave(sound: Sound, hertz: float, rate_hz: int) -> Sound:
    edges = hertz * 2.0**-0.5, hertz * 2.0**0.5
    sections = butter(3, edges, "bandpass", fs=rate_hz, output="sos")
    backwards: Sound = sosfilt(sections, sound[::-1])[::-1]
    return backwards


def _decay(impulse: Sound, rate_hz: int) -> Decay:
    energy = float(np.sum(np.square(impulse)))
    if energy < 1e-20:
        return _NOTHING
    floor = noise_floor(impulse, rate_hz)
    curve = decay_curve_db(impulse, floor)
    # ISO 3382-1, 5.3.3: the noise lies 10 dB under the end of what is told
    range_db = _range_db(impulse, floor, rate_hz)
    early = [float(np.sum(np.square(impulse[: round(s * rate_hz)]))) for s in (0.05, 0.08)]
    clarity = [
        10.0 * np.log10(one / (energy - one)) if energy - one > 1e-9 * energy else None
        for one in early
    ]
    return Decay(
        _time_s(curve, 0.0, -10.0, rate_hz),
        _time_s(curve, -5.0, -25.0, rate_hz) if range_db >= _T20_DB else None,
        _time_s(curve, -5.0, -35.0, rate_hz) if range_db >= _T30_DB else None,
        None if clarity[0] is None else float(clarity[0]),
        None if clarity[1] is None else float(clarity[1]),
        early[0] / energy,
    )


def _range_db(impulse: Sound, floor: Floor, rate_hz: int) -> float:
    """How far the decay reaches down from its beginning to its noise, in dB."""
    if not floor.power:
        return np.inf
    step = max(round(_WINDOW_S * rate_hz), 1)
    count = len(impulse) // step
    power = np.mean(np.square(impulse[: count * step]).reshape(count, step), axis=1)
    return float(10.0 * np.log10(power.max() / floor.power))


def _time_s(curve: Sound, high_db: float, low_db: float, rate_hz: int) -> float | None:
    """The time to fall by 60 dB, by a line through a part of the decay."""
    first, last = (int(np.argmax(curve <= db)) for db in (high_db, low_db))
    if curve[last] > low_db or last - first < 8:
        return None
    at = np.arange(first, last) / rate_hz
    slope = np.polyfit(at - at.mean(), curve[first:last], 1)[0]
    return float(-60.0 / slope) if slope < 0.0 else None


def _density(heard: Sound, times_s: Sound, rate_hz: int) -> Sound:
    """How many samples stand out of a window, against as many of noise."""
    half = max(round(_DENSITY_S * rate_hz / 2.0), 1)
    window = np.hanning(2 * half + 1)
    padded = np.pad(heard, half)
    found = np.zeros(len(times_s))
    for n, at in enumerate((times_s * rate_hz).astype(int)):
        part = padded[at : at + 2 * half + 1]
        if len(part) < 2 * half + 1 or not part.any():
            continue
        weights = window / window.sum()
        spread = np.sqrt(np.sum(weights * part**2))
        found[n] = np.sum(weights * (np.abs(part) > spread)) / erfc(np.sqrt(0.5))
    return found
