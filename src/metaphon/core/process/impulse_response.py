"""Responses of spaces from files, shaped and laid onto the channels of a strip."""

from collections.abc import Callable
from functools import lru_cache
from pathlib import Path
from typing import Literal, NamedTuple

import numpy as np
import soundfile
from numpy.typing import NDArray
from scipy.fft import irfft, next_fast_len, rfft, rfftfreq

from metaphon.core.dsp.partitioned import Responses, prepared
from metaphon.core.dsp.resampling import resampled
from metaphon.core.errors import InputError
from metaphon.core.measure.room_response import decay_time_s, noise_floor
from metaphon.core.presence import present
from metaphon.core.process.channel_shares import channel_shares, own_channels
from metaphon.core.process.processor import Channels
from metaphon.core.process.reverb import FALL
from metaphon.core.sound_file import open_sound
from metaphon.core.spatial.ambisonics import channels_of, encode, order_of
from metaphon.core.spatial.decoding import max_re_weights, per_channel
from metaphon.core.spatial.layouts import layout_for_channels

LONGEST_S = 20.0
SHORTEST_DECAY_S = 0.3
DENSER_S = 0.25  # how much longer a response becomes that is made denser
Form = Literal["mono", "stereo", "true_stereo", "surround", "scene"]
Array = NDArray[np.float64]
_MOST_ORDER = 3
_EARLY_S = 0.08  # after the first sound, what is near or far
_OVER_S = 0.02
_FAR_DB = 12.0
_GONE_DB = -110.0
_UNIT_ENERGY_HZ = 48_000
_DENSE_S = (0.0051, 0.0078, 0.0113, 0.0171)


class Shape(NamedTuple):
    """What is made of a response.

    Decays of bass, middle and treble as parts of those measured, the corners between them, how far
    it seems, and how many reflections are added.
    """

    bass_decay: float = 1.0
    decay: float = 1.0
    treble_decay: float = 1.0
    bass_corner_hz: float = 200.0
    treble_corner_hz: float = 4000.0
    distance: float = 0.5
    density: float = 0.0


class Key(NamedTuple):
    """All that responses are made of.

    `apart`: each channel feeds its own part of a response that is as wide; else all are summed.
    """

    file: Path
    shape: Shape
    form: Form
    apart: bool
    channels: Channels
    rate_hz: int


def length_s(file: Path) -> float:
    """How long a response is. Raises InputError in one sentence where it cannot be used."""
    return _info(file)[1]


def form_of(file: Path) -> Form:
    """What a response holds, by its channels; four are taken for a scene of first order."""
    return form_for(_info(file)[0], file.name)


def describe_channels(file: Path) -> str:
    """Say what the channels of a response are taken for, in words."""
    count = _info(file)[0]
    form = form_for(count, file.name)
    if form == "mono":
        return "Mono"
    if form == "stereo":
        return "Stereo: L R"
    if form == "surround":
        layout = layout_for_channels(count)
        return f"{layout.everyday}: {' '.join(layout.labels)}"
    scene = f"ambisonic, order {order_of(count)}"
    if count == 4:
        return f"4 channels: true stereo (LL LR RL RR) on two sides, {scene} on a scene"
    return scene.capitalize()


def form_for(channels: int, name: str) -> Form:
    """What so many channels hold. Raises InputError for a number that is no response of a space."""
    if channels in (1, 2):
        return "mono" if channels == 1 else "stereo"
    if channels in tuple(channels_of(order) for order in range(1, _MOST_ORDER + 1)):
        return "scene"
    try:
        layout_for_channels(channels)
    except InputError:
        raise InputError(
            f"{name} has {channels} channels; a response is mono, stereo, true stereo, surround or "
            "ambisonic up to the third order."
        ) from None
    return "surround"


def _stamp(file: Path) -> tuple[int, int]:
    """Tells whether a file is still the same."""
    try:
        found = present(file).stat()
    except OSError:
        return 0, 0
    return found.st_mtime_ns, found.st_size


def _info(file: Path) -> tuple[int, float]:
    """How many channels a response has, and how long it is in seconds."""
    return _told(file, _stamp(file))


@lru_cache(64)
def _told(file: Path, stamp: tuple[int, int]) -> tuple[int, float]:
    try:
        with open_sound(file) as found:
            channels, seconds = found.channels, found.frames / found.samplerate
    except (soundfile.LibsndfileError, OSError):
        raise InputError(
            f"The response {file.name} is not there or cannot be read; choose another."
        ) from None
    require_length(seconds, file.name)
    return channels, seconds


def require_length(seconds: float, name: str) -> None:
    """Raises InputError in one sentence for a response that is too long, or nothing."""
    if not 0 < seconds <= LONGEST_S:
        raise InputError(
            f"{name} is {seconds:.1f} s long; a response is {LONGEST_S:.0f} s at most."
        )


def require_sound(sound: NDArray[np.floating], name: str) -> None:
    """Raises InputError in one sentence for what is not numbers, or silent."""
    if not np.isfinite(sound).all():
        raise InputError(f"{name} holds samples that are not numbers; export it again.")
    if not sound.any():
        raise InputError(f"{name} is silent; choose another response.")


def read_response(file: Path, rate_hz: int) -> NDArray[np.float32]:
    """The samples of a response at a rate, (channels, taps).

    Raises InputError in one sentence where it cannot be used.
    """
    return _read(file, _stamp(file), rate_hz)


@lru_cache(8)
def _read(file: Path, stamp: tuple[int, int], rate_hz: int) -> NDArray[np.float32]:
    form_for(_info(file)[0], file.name)
    with open_sound(file) as opened:
        sound, own_rate = opened.read(dtype="float32", always_2d=True), opened.samplerate
    require_sound(sound, file.name)
    result: NDArray[np.float32] = np.ascontiguousarray(resampled(sound.T, own_rate, rate_hz))
    result.flags.writeable = False
    return result


def responses_for(key: Key) -> Responses:
    """A response shaped, at unit energy, laid onto the channels of a strip and made ready."""
    return _made(_stamp(key.file), key)


@lru_cache(16)
def _made(stamp: tuple[int, int], key: Key) -> Responses:
    sound = read_response(key.file, key.rate_hz).astype(np.float64)
    sound = shaped(sound, key.shape, key.rate_hz)
    entering, found = _laid(sound, key.form, key.apart, key.channels)
    # the same response has less energy in more samples: unit energy is meant at one rate
    found *= np.sqrt(_UNIT_ENERGY_HZ / key.rate_hz)
    return prepared(entering, found.astype(np.float32), key.channels.count)


def shaped(sound: Array, shape: Shape, rate_hz: int) -> Array:
    """A response, (channels, taps), with decays, distance and density of one's own."""
    onset = _onset(sound)
    found = _dying(sound, shape, onset, rate_hz)
    found = _moved(found, shape.distance, onset, rate_hz)
    if shape.density > 0.0:
        found = _denser(found, shape.density, rate_hz)
    loud = np.abs(found).max(axis=0)
    heard = np.flatnonzero(loud > loud.max() * 10.0 ** (_GONE_DB / 20.0))
    return found[:, : int(heard[-1]) + 1]


def _onset(sound: Array) -> int:
    """Where a response begins: 20 dB under its strongest sample (ISO 3382-1)."""
    loud = np.abs(sound).max(axis=0)
    return int(np.argmax(loud >= 0.1 * loud.max()))


def _dying(sound: Array, shape: Shape, onset: int, rate_hz: int) -> Array:
    """Shorter decays by band; never shorter than SHORTEST_DECAY_S, nor longer than measured."""
    wanted = (
        shape.bass_decay * shape.decay,
        shape.decay,
        shape.treble_decay * shape.decay,
    )
    if min(wanted) >= 1.0:
        return sound
    found = np.zeros_like(sound)
    after_s = np.maximum(np.arange(sound.shape[1]) - onset, 0) / rate_hz
    for band, part in zip(_bands(sound, shape, rate_hz), wanted, strict=True):
        heard = band[:, onset:].sum(axis=0)
        measured = decay_time_s(heard, rate_hz)
        if measured is None:
            found += band
            continue
        floor = noise_floor(heard, rate_hz)
        if floor.power:  # the noise dies away as the room before it
            beyond_s = np.maximum(after_s - floor.knee / rate_hz, 0.0)
            band = band * 10.0 ** (-FALL * beyond_s / measured)
        aim = min(measured, max(part * measured, SHORTEST_DECAY_S))
        found += band * 10.0 ** (-FALL * after_s * (1.0 / aim - 1.0 / measured))
    return found


def _bands(sound: Array, shape: Shape, rate_hz: int) -> tuple[Array, Array, Array]:
    """Bass, middle and treble, which add up to the whole: 48 dB an octave, without delay."""
    taps = sound.shape[1]
    size = next_fast_len(taps + rate_hz // 10, real=True)
    spectrum, hertz = rfft(sound, size), rfftfreq(size, 1.0 / rate_hz)
    low = 1.0 / (1.0 + (hertz / shape.bass_corner_hz) ** 8)
    high = 1.0 / (1.0 + (shape.treble_corner_hz / np.maximum(hertz, 1.0)) ** 8)
    bass, treble = (np.asarray(irfft(spectrum * part, size)[:, :taps]) for part in (low, high))
    return bass, sound - bass - treble, treble


def _moved(sound: Array, distance: float, onset: int, rate_hz: int) -> Array:
    """Nearer or further: early sound against late, their energy together kept."""
    if distance == 0.5:
        return sound
    after_s = (np.arange(sound.shape[1]) - onset) / rate_hz
    late = np.clip((after_s - _EARLY_S) / _OVER_S + 0.5, 0.0, 1.0)
    early_gain = 10.0 ** ((0.5 - distance) * _FAR_DB / 20.0)
    moved = sound * (early_gain * (1.0 - late) + late / early_gain)
    return np.asarray(moved * np.sqrt(np.sum(sound**2) / np.sum(moved**2)))


def _denser(sound: Array, density: float, rate_hz: int) -> Array:
    """More reflections of the same energy: all-pass delays one after the other (Schroeder 1962)."""
    taps = sound.shape[1] + round(DENSER_S * rate_hz)
    size = next_fast_len(taps, real=True)
    turn = -2j * np.pi * rfftfreq(size)
    # as the response alone passes, and then less and less of it at once
    own = 1.0 - 0.4 * density
    spectrum = rfft(sound, size)
    for seconds in _DENSE_S:
        late = np.exp(turn * round(seconds * rate_hz))
        through = (own + late) / (1.0 + own * late)
        spectrum = spectrum * (1.0 + min(density / 0.2, 1.0) * (through - 1.0))
    return np.asarray(irfft(spectrum, size)[:, :taps])


def _laid(sound: Array, form: Form, apart: bool, channels: Channels) -> tuple[Array, Array]:
    """How channels are summed to inputs, and what each gives to each channel, at unit energy.

    (inputs, channels) and (inputs, channels, taps).
    """
    count, taps = channels.count, sound.shape[1]
    own = own_channels(channels)
    if form == "mono":  # every channel keeps its place
        found = np.zeros((count, count, taps))
        found[np.arange(count), np.arange(count)] = sound[0] / _level(sound[:1]) * own[:, None]
        return np.diag(own), found
    if form == "true_stereo" and count == 2 and len(sound) == 4:
        ways = sound.reshape(2, 2, taps)
        return np.eye(2), ways * np.sqrt(2.0) / _level(sound)
    if form == "stereo" and apart and count == 2:
        found = np.zeros((2, 2, taps))
        found[[0, 1], [0, 1]] = sound * np.sqrt(2.0) / _level(sound)
        return np.eye(2), found
    heard = _onto(sound, form, channels)
    total = _level(heard[:1] if channels.order is not None else heard)
    return _summed(channels), heard[None] / total


def _summed(channels: Channels) -> Array:
    """One place that the room is fed from: the sum of all, and of a scene its omni."""
    if channels.order is not None:
        return np.eye(1, channels.count)
    return own_channels(channels)[None]


def _onto(sound: Array, form: Form, channels: Channels) -> Array:
    """A response as wide as it is on the channels there are, (channels, taps)."""
    if form == "true_stereo":
        sound = sound.reshape(2, 2, -1).sum(axis=0)
    if form == "scene":
        order = order_of(len(sound))
        if channels.order is not None:
            most = min(len(sound), channels.count)
            found = np.zeros((channels.count, sound.shape[1]))
            found[:most] = sound[:most]
            return found
        return np.asarray(_decoding(order, channels) @ sound)
    layout = layout_for_channels(len(sound))
    unplaced = channels.order is None and not channels.angles_deg
    if channels.angles_deg == layout.angles_deg or (unplaced and channels.count == len(sound)):
        return np.asarray(sound * own_channels(channels)[:, None])
    main = list(layout.main)
    return np.asarray(channel_shares(channels, layout.vectors[main]).T @ sound[main])


def _decoding(order: int, channels: Channels) -> Array:
    """Loudspeakers that listen to a scene in their own directions, (channels, channels of it)."""
    own = own_channels(channels)
    azimuth, elevation = np.array(channels.angles_deg or [(0.0, 0.0)] * channels.count).T
    weights = per_channel((2.0 * np.arange(order + 1) + 1.0) * max_re_weights(order))
    return np.asarray(encode(azimuth, elevation, order) * weights * own[:, None])


def _level(sound: Array) -> float:
    """The square root of the energy of all channels."""
    return float(np.sqrt(max(np.sum(sound**2), 1e-20)))


class Behind:
    """Makes responses ready: at once, or behind what is heard where somebody listens.

    One a process. `waiting` has the names of files that are being made ready.
    """

    def __init__(self) -> None:
        self._submit: Callable[..., object] | None = None
        self._ready: dict[Key, Responses] = {}
        self._failed: dict[Key, InputError] = {}
        self._under_way: set[Key] = set()

    def work_with(self, submit: Callable[..., object]) -> None:
        """From now on make them ready by what takes a function and its arguments."""
        self._submit = submit

    @property
    def waiting(self) -> tuple[str, ...]:
        """The files whose responses are being made ready."""
        return tuple(sorted({key.file.stem for key in tuple(self._under_way)}))

    def get(self, key: Key) -> Responses | None:
        """The responses; None as long as they are not ready. Raises InputError as they do."""
        if self._submit is None:
            return responses_for(key)
        if key in self._failed:
            raise self._failed.pop(key)
        if key in self._ready:
            return self._ready.pop(key)
        if key not in self._under_way:
            self._under_way.add(key)
            self._submit(self._make, key)
        return None

    def forget(self, key: Key) -> None:
        """Leave what nobody waits for any more, as where a hand has moved on."""
        for held in (self._ready, self._failed):
            held.pop(key, None)
        self._under_way.discard(key)

    def _make(self, key: Key) -> None:
        if key not in self._under_way:
            return
        try:
            made = responses_for(key)
            if key in self._under_way:
                self._ready[key] = made
        except InputError as error:
            self._failed[key] = error
        finally:
            self._under_way.discard(key)


behind = Behind()
