"""What a mix becomes in every place it will be heard in: its level, what of it is lost, and speech.

By the mean spectra of every track in every format, (channels, channels, frequencies), and what each
place makes of them; all places are linear.
"""

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.fft import rfft, rfftfreq
from scipy.signal import get_window, sosfreqz

from metaphon.core.document.mix import Mix
from metaphon.core.document.targets import target_named
from metaphon.core.dsp.block import Block
from metaphon.core.edits.command import strip_of
from metaphon.core.engine.plan import compile
from metaphon.core.engine.render import Output, render
from metaphon.core.engine.stems import only, soloed
from metaphon.core.errors import InputError
from metaphon.core.listen.device import device_for
from metaphon.core.listen.places import PLACES, Place
from metaphon.core.measure.intelligibility import (
    BANDS_HZ,
    spectrum_levels_db,
    speech_intelligibility_index,
)
from metaphon.core.measure.loudness import k_weighting
from metaphon.core.measure.thirds import THIRDS_HZ, banded

LOOKED_AT_S = 30.0  # of the mix, where it is loudest, or where speech is
_SIZE = 8192
_HOP = 4096
_AT_ONCE = 32  # frames
_SILENCE = 1e-12
_SPEECH_SPL_DB = 65.0  # to which people turn it up
_ACTIVE = 0.01  # of the loudest frame of speech: where it is less, nobody speaks
_NAMED_DB = 1.5
_MOST_NAMED = 3
_LARGEST_DB = 60.0

Spectra = NDArray[np.complex128]  # (channels, channels, frequencies)


@dataclass(frozen=True)
class Sunk:
    """A track, and how much less of the whole it is than in stereo, in dB."""

    track: str
    less_db: float


@dataclass(frozen=True)
class Translated:
    """The mix in one place, against plain stereo: in dB, None where there is nothing.

    `level_db` is weighted as loudness is, `bands_db` by THIRDS_HZ, both over all that was looked
    at; `sunk` the tracks that lose most; `intelligibility` that of speech, 0 to 1.
    """

    place: str
    level_db: float | None
    bands_db: list[float | None]
    sunk: list[Sunk]
    intelligibility: float | None


@dataclass(frozen=True)
class Translation:
    """A mix in every place, over LOOKED_AT_S from `from_s` on."""

    from_s: float
    places: list[Translated]


def translate(
    mix: Mix, speech: str | None, on_progress: Callable[[float], None] = lambda done: None
) -> Translation:
    """Render a mix track by track and let every place make of it what it does.

    Parameters
    ----------
    mix
        The mix.
    speech
        The track or bus that has to be understood; None for none.
    on_progress
        Is told how much is done, 0 to 1.

    Raises
    ------
    InputError
        Where there is nothing to hear, or the strip is gone.

    References
    ----------
        Intelligibility by ANSI S3.5-1997: speech at 65 dB SPL in every place, over all else that is
        heard while somebody speaks, and over the noise of the place.
    """
    frames = compile(mix).frames
    tracks = [track.id for track in mix.tracks if track.clips and not track.resting]
    said = None
    if speech:
        strip_of(mix, speech)
        said = soloed(mix, speech)
    share = 1.0 / (2 + len(tracks))
    first = _where(said or mix, frames)
    last = min(first + round(LOOKED_AT_S * mix.sample_rate_hz), frames)
    look = _Look(mix, first, last)
    on_progress(share)
    whole = look.spectra(mix)
    if not any(np.abs(one).max(initial=0.0) > _SILENCE for one in whole.values()):
        raise InputError("There is nothing to hear yet; bring a recording in and route it.")
    active = look.active(said) if said else None
    spoken = look.spectra(said, active) if said else None
    rest = look.spectra(mix, active, without=said) if said else None
    on_progress(2 * share)
    alone = {}
    for number, track in enumerate(tracks):
        alone[track] = look.spectra(only(mix, {track}))
        on_progress(share * (3 + number))
    heard = [_Heard(place, look, whole, alone, spoken, rest) for place in PLACES]
    return Translation(round(first / mix.sample_rate_hz, 3), [one.told(heard[0]) for one in heard])


def _blocks(mix: Mix, first: int, last: int, *targets: str) -> Iterator[dict[str, Block]]:
    """A mix in formats, block by block; where it ends earlier, no more of it."""
    outputs = [Output(target_named(name)) for name in targets]
    try:
        plan = compile(mix)
    except InputError:
        return  # muted, or led nowhere
    for blocks in render(plan, outputs, first, last):
        yield dict(zip(targets, blocks, strict=True))


def _where(mix: Mix, frames: int) -> int:
    """The frame from which on, for LOOKED_AT_S, most is heard."""
    step = mix.sample_rate_hz // 2
    blocks = [np.sum(b["0+2+0"] ** 2, axis=0) for b in _blocks(mix, 0, frames, "0+2+0")]
    power = np.concatenate(blocks, dtype=float) if blocks else np.zeros(0)
    steps = np.add.reduceat(power, np.arange(0, len(power), step)) if len(power) else np.zeros(0)
    span = round(LOOKED_AT_S * 2)
    if len(steps) <= span:
        return 0
    sums = np.concatenate([[0.0], np.cumsum(steps)])
    return int(np.argmax(sums[span:] - sums[:-span])) * step


class _Look:
    """A stretch of a mix in all formats that places are given."""

    def __init__(self, mix: Mix, first: int, last: int) -> None:
        self.rate_hz = mix.sample_rate_hz
        self.shares = mix.fold_down.shares
        self.hertz = rfftfreq(_SIZE, 1.0 / self.rate_hz)
        self.targets = tuple(dict.fromkeys(place.target for place in PLACES))
        self._span = first, last
        self._window = get_window("hann", _SIZE).astype(np.float32)

    def spectra(
        self, mix: Mix, active: NDArray[np.bool_] | None = None, without: Mix | None = None
    ) -> dict[str, Spectra]:
        """The mean spectra of a mix in each format, of all frames or of the active ones."""
        found = {
            name: np.zeros((len(self.hertz), channels, channels), dtype=np.complex128)
            for name, channels in ((n, target_named(n).channels) for n in self.targets)
        }
        held: dict[str, list[Block]] = {name: [] for name in self.targets}
        others = self._frames(without) if without else None
        for number, sound in enumerate(self._frames(mix)):
            less = next(others, {}) if others else {}
            if active is not None and not (number < len(active) and active[number]):
                continue
            for name, block in sound.items():
                held[name].append(block - less.get(name, np.float32(0.0)))
            if len(held[self.targets[0]]) == _AT_ONCE:
                self._add(found, held)
        self._add(found, held)
        count = active.sum() if active is not None else (self._span[1] - self._span[0]) / _HOP
        scale = 2.0 / (max(count, 1) * _SIZE * float(np.sum(self._window**2)))
        return {name: np.moveaxis(sums, 0, -1) * scale for name, sums in found.items()}

    def _add(self, found: dict[str, Spectra], held: dict[str, list[Block]]) -> None:
        """Add the products of channels of some frames, and let go of them."""
        for name, blocks in held.items():
            if blocks:
                spectra = rfft(np.stack(blocks) * self._window)  # (frames, channels, bins)
                found[name] += spectra.transpose(2, 1, 0) @ spectra.conj().transpose(2, 0, 1)
                blocks.clear()

    def active(self, mix: Mix) -> NDArray[np.bool_]:
        """The frames in which something is heard of a mix."""
        power = [float(np.sum(sound["0+2+0"] ** 2)) for sound in self._frames(mix)]
        levels = np.array(power or [0.0])
        found: NDArray[np.bool_] = levels > _ACTIVE * max(levels.max(), _SILENCE)
        return found

    def _frames(self, mix: Mix) -> Iterator[dict[str, Block]]:
        """A mix in pieces of _SIZE, half over one another."""
        held: dict[str, Block] = {}
        for block in _blocks(mix, *self._span, *self.targets):
            held = {n: np.append(held[n], b, axis=1) if held else b for n, b in block.items()}
            count = next(iter(held.values())).shape[1]
            at = 0
            while count - at >= _SIZE:
                yield {name: sound[:, at : at + _SIZE] for name, sound in held.items()}
                at += _HOP
            held = {name: sound[:, at:] for name, sound in held.items()}
        if held:
            missing = _SIZE - next(iter(held.values())).shape[1]
            yield {name: np.pad(sound, ((0, 0), (0, missing))) for name, sound in held.items()}


class _Heard:
    """A mix in one place: the power at the ears by frequency, of all and of each track."""

    def __init__(
        self,
        place: Place,
        look: _Look,
        whole: dict[str, Spectra],
        alone: dict[str, dict[str, Spectra]],
        spoken: dict[str, Spectra] | None,
        rest: dict[str, Spectra] | None,
    ) -> None:
        self._place, self._hertz = place, look.hertz
        target = target_named(place.target)
        device = device_for(place.monitor, target, look.rate_hz, look.shares)
        responses = []
        for channel in range(target.channels):
            impulse = np.zeros((target.channels, _SIZE), dtype=np.float32)
            impulse[channel, 0] = 1.0
            responses.append(device.process(impulse))
            device = device_for(place.monitor, target, look.rate_hz, look.shares)
        self._ears = rfft(np.stack(responses, axis=1))  # (ears, channels, frequencies)
        _, weight = sosfreqz(k_weighting(look.rate_hz), self._hertz, fs=look.rate_hz)
        self._weight = np.abs(weight) ** 2
        self.power = self._at_ears(whole)
        self.alone = {track: self._at_ears(own) for track, own in alone.items()}
        self._spoken = None if spoken is None else self._at_ears(spoken)
        self._rest = None if rest is None else self._at_ears(rest)

    def _at_ears(self, spectra: dict[str, Spectra]) -> NDArray[np.float64]:
        """The power of both ears together, by frequency."""
        own = spectra[self._place.target]
        through = np.einsum("ecf,cdf->edf", self._ears, own)
        result: NDArray[np.float64] = np.einsum("edf,edf->f", through, self._ears.conj()).real
        return np.maximum(result, 0.0)

    def told(self, mix: "_Heard") -> Translated:
        """What is told of it, against what is heard of the mix as it is."""
        bands, own_bands = (banded(one.power, self._hertz, THIRDS_HZ) for one in (self, mix))
        return Translated(
            self._place.key,
            _level_db(self.loudness(self.power), mix.loudness(mix.power)),
            [_level_db(a, b) for a, b in zip(bands, own_bands, strict=True)],
            self._sunk(mix),
            self._intelligibility(),
        )

    def loudness(self, power: NDArray[np.float64]) -> float:
        """A power as it counts for loudness."""
        return float(np.sum(power * self._weight))

    def _sunk(self, mix: "_Heard") -> list[Sunk]:
        """The tracks that are softer against the rest than in plain stereo, the worst first."""
        found = []
        for track in self.alone:
            here, there = (
                _level_db(one.loudness(one.alone[track]), one.loudness(one.power))
                for one in (self, mix)
            )
            if here is not None and there is not None and there - here > _NAMED_DB:
                found.append(Sunk(track, round(there - here, 1)))
        return sorted(found, key=lambda one: -one.less_db)[:_MOST_NAMED]

    def _intelligibility(self) -> float | None:
        if self._spoken is None or self._rest is None:
            return None
        speech, rest = (banded(p, self._hertz, BANDS_HZ) for p in (self._spoken, self._rest))
        if speech.sum() < _SILENCE:
            return None
        loud = 10.0 ** (_SPEECH_SPL_DB / 10.0) / speech.sum()
        # the noise of a place falls by 3 dB an octave (common practice, no source)
        noise = np.full(len(BANDS_HZ), 10.0 ** (self._place.noise_db / 10.0) / len(BANDS_HZ))
        speech_db, other_db = (spectrum_levels_db(p) for p in (speech * loud, rest * loud + noise))
        return round(speech_intelligibility_index(speech_db, other_db), 3)


def _level_db(power: float, over: float) -> float | None:
    """One power over another in dB, within what is told; None where there is none to hold it to."""
    if over < _SILENCE:
        return None
    db = 10.0 * np.log10(max(power, 1e-30) / over)
    return round(float(min(max(db, -_LARGEST_DB), _LARGEST_DB)), 2)
