"""The sounds of "The Lamp at Skerrow", made from nothing with a fixed seed.

All arrays are (channels, frames).
"""

from collections.abc import Callable
from importlib.resources import as_file, files

import numpy as np
import soundfile
from numpy.typing import NDArray
from scipy.signal import butter, fftconvolve, sosfilt

from metaphon.core.spatial.ambisonics import encode

RATE_HZ = 48000
LENGTH_S = 60.0
FRAMES = round(LENGTH_S * RATE_HZ)

Sound = NDArray[np.float64]


def _random(name: str) -> np.random.Generator:
    return np.random.default_rng([ord(letter) for letter in name])


def _time(seconds: float) -> Sound:
    return np.arange(round(seconds * RATE_HZ)) / RATE_HZ


def _band(sound: Sound, low_hz: float, high_hz: float, order: int = 2) -> Sound:
    result: Sound = sosfilt(
        butter(order, [low_hz, high_hz], "band", fs=RATE_HZ, output="sos"), sound
    )
    return result


def _low(sound: Sound, corner_hz: float, order: int = 2) -> Sound:
    result: Sound = sosfilt(butter(order, corner_hz, "low", fs=RATE_HZ, output="sos"), sound)
    return result


def _placed(pieces: list[tuple[float, Sound]], seconds: float = LENGTH_S) -> Sound:
    out = np.zeros(round(seconds * RATE_HZ))
    for start_s, piece in pieces:
        first = round(start_s * RATE_HZ)
        piece = piece[: len(out) - first]
        out[first : first + len(piece)] += piece
    return out


def _level(sound: Sound, peak_dbfs: float) -> Sound:
    result: Sound = sound * (10.0 ** (peak_dbfs / 20.0) / np.max(np.abs(sound)))
    return result


def _struck(
    partials: list[tuple[float, float, float]], seconds: float, attack_s: float = 0.002
) -> Sound:
    """A struck body: partials as (frequency_hz, amplitude, decay_s to -60 dB)."""
    t = _time(seconds)
    total = sum(
        a * np.sin(2 * np.pi * f * t) * 10.0 ** (-3.0 * t / decay) for f, a, decay in partials
    )
    return np.asarray(total) * np.minimum(t / attack_s, 1.0)


def _drift(random: np.random.Generator, seconds: float, period_s: float) -> Sound:
    """A slow random line between -1 and 1."""
    points = random.uniform(-1, 1, int(seconds / period_s) + 3)
    return np.interp(_time(seconds), np.arange(len(points)) * period_s, points)


def _wave(turns: Sound, amplitudes: Sound) -> Sound:
    """A harmonic tone from its phase in turns and the amplitudes of its partials, by table."""
    table_turns = np.arange(8192)[:, None] / 8192.0
    partials = np.arange(len(amplitudes)) + 1
    table = np.sin(2 * np.pi * partials * table_turns + partials) @ amplitudes
    return table[(turns * 8192).astype(np.int64) % 8192]


def _voice(name: str) -> Sound:
    with as_file(files("metaphon.core.demo") / "voices" / f"{name}.flac") as path:
        result: Sound = soundfile.read(str(path), always_2d=True)[0].T
        return result


def narrator_en() -> Sound:
    """The narrator in English."""
    return _voice("narrator_en")


def narrator_nb() -> Sound:
    """The narrator in Norwegian."""
    return _voice("narrator_nb")


def _buoy() -> Sound:
    random = _random("buoy")
    ratios = (
        (0.5, 0.5, 5.0),
        (1.0, 1.0, 4.0),
        (1.19, 0.6, 2.6),
        (1.56, 0.4, 2.0),
        (2.0, 0.5, 1.6),
        (2.66, 0.3, 0.9),
    )
    pieces = []
    at = 1.2
    while at < LENGTH_S - 4:
        strength = random.uniform(0.4, 1.0)
        bell = _struck([(311.0 * r, a * strength, d) for r, a, d in ratios], 5.0)
        clapper = _low(random.standard_normal(480) * np.hanning(480), 5000) * 0.5 * strength
        bell[:480] += clapper
        pieces.append((at, bell))
        at += random.choice([1.9, 2.6, 3.4, 4.4]) + random.uniform(-0.15, 0.15)
    return _level(_placed(pieces), -6.0)


def buoy_near() -> Sound:
    """The bell buoy by the near microphone."""
    return _buoy()[None]


def buoy_far() -> Sound:
    """The second microphone: 0.7 ms later, upside down, a little duller, with its own hiss."""
    late = round(0.0007 * RATE_HZ)
    sound = -np.concatenate([np.zeros(late), _buoy()[:-late]])
    hiss = _random("far").standard_normal(FRAMES) * 0.0004
    return (_low(sound, 12000, 1) * 0.8 + hiss)[None]


def harmonium() -> Sound:
    """A slow progression over three reeds apart: left, right, centre."""
    chords: tuple[tuple[float, ...], ...] = (
        (146.83, 220.0, 293.66, 349.23),
        (116.54, 233.08, 293.66, 349.23),
        (130.81, 196.0, 261.63, 329.63),
    )
    chords += ((110.0, 220.0, 277.18, 329.63), (146.83, 220.0, 293.66, 440.0))
    random = _random("harmonium")
    out = np.zeros((3, FRAMES))
    length = 11.0
    t = _time(length)
    swell = np.sin(np.pi * np.clip(t / length, 0, 1)) ** 0.5
    for number, chord in enumerate(chords):
        first = round((2.0 + number * 10.4) * RATE_HZ)
        for voice, frequency in enumerate(chord):
            for reed in range(3):
                tuned = frequency * 2 ** (random.normal(0, 4.0) / 1200)
                reedy = _wave(tuned * t + random.uniform(0, 1), np.arange(1.0, 14.0) ** -1.25)
                weight = 1.0 if reed == (voice % 3) else 0.35
                piece = (reedy * swell * weight)[: FRAMES - first]
                out[reed, first : first + len(piece)] += piece
    breath = 1.0 + 0.08 * _drift(random, LENGTH_S, 0.7)
    return _level(_low(out * breath, 4200, 1), -10.0)


def hand_bells() -> Sound:
    """A phrase of small bells, the side far too loud against the mid."""
    random = _random("bells")
    notes = (587.33, 698.46, 880.0, 783.99, 587.33, 1046.5, 880.0, 698.46, 659.26, 783.99)
    left, right = [], []
    at = 6.0
    for turn in range(26):
        frequency = notes[turn % len(notes)] * (2.0 if random.random() < 0.2 else 1.0)
        partials = [
            (frequency * r, a, d)
            for r, a, d in ((1.0, 1.0, 2.2), (2.0, 0.35, 1.4), (3.0, 0.18, 0.8))
        ]
        bell = _struck(partials, 2.5) * random.uniform(0.5, 1.0)
        side = random.uniform(-1, 1)
        left.append((at, bell * np.cos((side + 1) * np.pi / 4)))
        right.append((at, bell * np.sin((side + 1) * np.pi / 4)))
        at += float(random.choice([0.8, 1.6, 1.6, 2.4]))
    pair = np.stack([_placed(left), _placed(right)])
    mid, side_signal = pair.sum(0) / 2, (pair[0] - pair[1]) / 2
    return _level(np.stack([mid + 2.6 * side_signal, mid - 2.6 * side_signal]), -9.0)


def _drum(name: str, frequency: float, starts: list[float]) -> Sound:
    random = _random(name)
    pieces = []
    for start in starts:
        t = _time(1.6)
        fall = frequency * (1.0 + 0.5 * np.exp(-t * 18))
        body = np.sin(2 * np.pi * np.cumsum(fall) / RATE_HZ) * np.exp(-t * 4.5)
        skin = _band(random.standard_normal(len(t)), 150, 900) * np.exp(-t * 40) * 0.5
        pieces.append((start, (body + skin) * random.uniform(0.6, 1.0)))
    return _level(_placed(pieces), -8.0)[None]


def drum_one() -> Sound:
    """The first low drum."""
    return _drum("one", 58.0, [12.4 + 5.2 * k for k in range(9)])


def drum_two() -> Sound:
    """The second low drum."""
    return _drum("two", 74.0, [15.0 + 5.2 * k + 0.35 * (k % 2) for k in range(8)])


def gull() -> Sound:
    """A gull that flies over."""
    random = _random("gull")
    pieces = []
    for start in (4.0, 4.7, 5.3, 9.5, 10.1, 14.2, 14.8, 15.5, 16.1, 21.0, 21.6, 26.5):
        t = _time(random.uniform(0.32, 0.5))
        way = t / t[-1]
        pitch = 1150 + 650 * np.sin(np.pi * way) ** 0.7 + 60 * np.sin(2 * np.pi * 24 * t)
        phase = 2 * np.pi * np.cumsum(pitch) / RATE_HZ
        cry = sum(np.sin(k * phase) / k**1.1 for k in (1, 2, 3, 4)) * np.sin(np.pi * way) ** 0.6
        pieces.append((start, np.asarray(cry)))
    return _level(_placed(pieces, 30.0), -8.0)[None]


def rowing_boat() -> Sound:
    """A rowing boat that passes."""
    random = _random("boat")
    pieces = []
    for stroke in range(16):
        start = 1.0 + 2.3 * stroke
        t = _time(0.9)
        splash = (
            _band(random.standard_normal(len(t)), 500, 3500)
            * np.exp(-t * 6)
            * np.minimum(t / 0.03, 1)
        )
        pieces.append((start, splash))
        t = _time(0.5)
        creak_pitch = 190 + 50 * t / t[-1] + 12 * np.sin(2 * np.pi * 37 * t)
        creak = np.sign(np.sin(2 * np.pi * np.cumsum(creak_pitch) / RATE_HZ)) * np.hanning(len(t))
        pieces.append((start + 1.1, _band(creak, 250, 1800) * 0.5))
    return _level(_placed(pieces, 40.0), -10.0)[None]


def horn() -> Sound:
    """A ship's horn, far off."""
    t = _time(4.5)
    swell = np.minimum(t / 0.5, 1) * np.minimum((4.5 - t) / 0.8, 1)
    tone = sum(np.sin(2 * np.pi * f * k * t) / k**1.3 for f in (87.3, 110.2) for k in range(1, 12))
    blast = np.asarray(tone) * swell
    return _level(_low(_placed([(8.0, blast), (31.0, blast), (47.0, blast)]), 700), -9.0)[None]


def rain() -> Sound:
    """Six channels in 5.1 order, all unrelated; the LFE carries a far rumble only."""
    random = _random("rain")
    out = np.zeros((6, FRAMES))
    for channel in range(6):
        noise = random.standard_normal(FRAMES)
        if channel == 3:
            out[channel] = _low(noise, 70, 4) * 0.6 * (1 + 0.7 * _drift(random, LENGTH_S, 4.0))
            continue
        sheet = _band(noise, 900, 9000, 1) * 0.03
        drops = np.zeros(FRAMES)
        where = random.integers(0, FRAMES - 200, 2200)
        drops[where] = random.exponential(0.25, len(where)) * random.choice([-1, 1], len(where))
        ring = _struck([(2600.0, 1.0, 0.02), (4100.0, 0.5, 0.015)], 0.02, 0.0005)
        out[channel] = (sheet + fftconvolve(drops, ring)[:FRAMES] * 0.35) * (
            1 + 0.25 * _drift(random, LENGTH_S, 3.0)
        )
    return _level(out, -14.0)


def sea() -> Sound:
    """First order, AmbiX.

    Swells that roll in from left to right, mostly ahead and a little below.
    """
    random = _random("sea")
    scene = np.zeros((4, FRAMES))
    for azimuth in np.arange(-150, 151, 30):
        noise = _band(random.standard_normal(FRAMES), 60, 1400, 1)
        swell = (0.55 + 0.45 * _drift(random, LENGTH_S, 2.7)) ** 2
        facing = 0.4 + 0.6 * np.cos(np.radians(azimuth) / 2) ** 2
        scene += encode(float(azimuth), -8.0, 1)[:, None] * (noise * swell * facing)
    return _level(scene, -13.0)


def choir_hum() -> Sound:
    """A choir that hums."""
    random = _random("choir")
    pieces = []
    for number, chord in enumerate(
        ((146.83, 220.0), (174.61, 233.08), (164.81, 196.0), (138.59, 220.0), (146.83, 293.66))
    ):
        t = _time(10.8)
        swell = np.sin(np.pi * t / t[-1]) ** 0.8
        for frequency in chord:
            for _ in range(4):
                bend = 2 ** (
                    (random.normal(0, 6) + 9 * _drift(random, 10.8, 0.18)[: len(t)]) / 1200
                )
                hum = _wave(
                    np.cumsum(frequency * bend) / RATE_HZ + random.uniform(0, 1),
                    np.arange(1.0, 7.0) ** -2,
                )
                pieces.append((3.0 + number * 10.4, hum * swell))
    return _level(_band(_placed(pieces), 110, 1500, 1), -12.0)[None]


SOUNDS: dict[str, Callable[[], Sound]] = {
    make.__name__: make
    for make in (
        narrator_en,
        narrator_nb,
        buoy_near,
        buoy_far,
        harmonium,
        hand_bells,
        drum_one,
        drum_two,
        gull,
        rowing_boat,
        horn,
        rain,
        sea,
        choir_hum,
    )
}
