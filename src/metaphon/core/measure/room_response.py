"""How a space answers a click: decay times, clarity, definition and density of its reflections."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.signal import butter, sosfilt
from scipy.special import erfc

OCTAVES_HZ = (125.0, 250.0, 500.0, 1000.0, 2000.0, 4000.0, 8000.0)
_ONSET_DB = -20.0  # under its strongest sample, where the response begins
_FLOOR_DB = -120.0
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
    curve = np.interp(times, np.arange(len(heard)) / rate_hz, decay_curve_db(heard))
    return RoomResponse(
        _decay(heard, rate_hz),
        tuple(octaves),
        times,
        curve,
        _density(heard, times, rate_hz),
    )


def decay_curve_db(impulse: Sound) -> Sound:
    """The energy that is still to come at each sample, in dB of all of it."""
    energy = np.cumsum(np.square(impulse)[::-1])[::-1]
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
    curve = decay_curve_db(impulse)
    early = [float(np.sum(np.square(impulse[: round(s * rate_hz)]))) for s in (0.05, 0.08)]
    clarity = [
        10.0 * np.log10(one / (energy - one)) if energy - one > 1e-9 * energy else None
        for one in early
    ]
    return Decay(
        _time_s(curve, 0.0, -10.0, rate_hz),
        _time_s(curve, -5.0, -25.0, rate_hz),
        _time_s(curve, -5.0, -35.0, rate_hz),
        None if clarity[0] is None else float(clarity[0]),
        None if clarity[1] is None else float(clarity[1]),
        early[0] / energy,
    )


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
