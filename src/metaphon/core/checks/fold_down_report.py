"""What of a mix is lost where it is folded down: by band, over time, and through which tracks."""

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.fft import next_fast_len, rfft, rfftfreq
from scipy.signal import get_window, hilbert

from metaphon.core.document.mix import Mix
from metaphon.core.document.targets import target_named
from metaphon.core.dsp.block import Block
from metaphon.core.edits.command import strip_of
from metaphon.core.engine.plan import compile
from metaphon.core.engine.render import Output, render
from metaphon.core.engine.stems import only, soloed
from metaphon.core.errors import InputError
from metaphon.core.measure.correlation import LARGEST_LOSS_DB
from metaphon.core.measure.thirds import THIRDS_HZ, banded
from metaphon.core.spatial.downmix import conversion, folded_behind
from metaphon.core.spatial.layouts import layout_named

WAYS = (("0+2+0", "0+1+0"), ("0+5+0", "0+2+0"), ("4+7+0", "0+2+0"), ("4+7+0", "0+5+0"))
STEP_S = 0.5
RANKED_S = 30.0  # of the mix, its worst, over which tracks are left out one by one
_SEGMENTS = 6  # a step, of a sixth of a second each: 6 Hz apart
_SILENCE = 1e-12  # power of a band over a step below which nothing is said
_SOFT = 1e-3  # of the loudest step: what is softer is not called the worst
_NAMED_DB = 0.05
_MOST_NAMED = 6
_PART = 16384  # frames that stay near while they are worked on

Powers = NDArray[np.float64]  # (before and after folding, steps, bands)


@dataclass(frozen=True)
class Cause:
    """A track, and how much less is lost without it, in dB."""

    track: str
    comes_back_db: float


@dataclass(frozen=True)
class Fold:
    """What a fold-down loses, in dB, None in silence: in all, by THIRDS_HZ, by step of STEP_S.

    `worst_s` is where it loses most, `causes` are the tracks that make it so, the worst first, over
    RANKED_S from `ranked_from_s` on.
    """

    source: str
    target: str
    loss_db: float | None
    bands_db: list[float | None]
    steps_db: list[float | None]
    worst_s: float | None
    ranked_from_s: float
    causes: list[Cause]


def fold_down_report(
    mix: Mix, strip_id: str | None, on_progress: Callable[[float], None] = lambda done: None
) -> list[Fold]:
    """Render a mix, or what a track or bus alone puts into it, and fold it down by every way.

    Parameters
    ----------
    mix, strip_id
        The strip of the mix; None for all of it.
    on_progress
        Is told how much is done, 0 to 1.

    Returns
    -------
        One for each of WAYS. Lost is the power of all channels, the LFE not counted, over that of
        what they are folded down to: 0 dB for two equal channels in mono, 3.01 for unrelated ones.

    Raises
    ------
    InputError
        Where there is nothing to hear, or the strip is gone.

    References
    ----------
        ITU-R BS.775-4, annex 4, for the coefficients; the rest is derived.
    """
    if strip_id is not None:
        strip_of(mix, strip_id)
        mix = soloed(mix, strip_id)
    folding = _Folding(mix)
    frames = compile(mix).frames
    tracks = [track.id for track in mix.tracks if track.clips and not track.resting]
    share = 1.0 / (1 + len(tracks))
    whole = folding.powers(_rendered(mix, 0, frames), lambda at: on_progress(share * at / frames))
    first = folding.worst_stretch(whole)
    last = min(first + round(RANKED_S * mix.sample_rate_hz), frames)
    held = _joined(_rendered(mix, first, last), last - first)
    now = folding.mean_powers(held)
    causes: list[list[Cause]] = [[] for _ in WAYS]
    for number, track_id in enumerate(tracks):
        # what processors make of all is what they make of each, added up
        own = _joined(_rendered(only(mix, {track_id}), first, last), last - first)
        then = folding.mean_powers({name: sound - own[name] for name, sound in held.items()})
        for found, with_it, without in zip(causes, now, then, strict=True):
            lost, still = _loss_db(with_it), _loss_db(without)
            if lost is not None and still is not None and lost - still > _NAMED_DB:
                found.append(Cause(track_id, round(lost - still, 2)))
        on_progress(share * (2 + number))
    return [
        folding.told(way, powers, first, sorted(found, key=lambda one: -one.comes_back_db))
        for way, powers, found in zip(WAYS, whole, causes, strict=True)
    ]


def _rendered(mix: Mix, first: int, last: int) -> Iterator[dict[str, Block]]:
    """The sources of all ways, block by block; where the mix ends earlier, no more of it."""
    outputs = [Output(target_named(name)) for name in dict.fromkeys(way[0] for way in WAYS)]
    try:
        plan = compile(mix)
    except InputError:
        return  # muted, or led nowhere
    for blocks in render(plan, outputs, first, last):
        yield {out.target.name: block for out, block in zip(outputs, blocks, strict=True)}


def _joined(blocks: Iterable[dict[str, Block]], frames: int) -> dict[str, Block]:
    """All blocks as one, with silence for what is not there."""
    whole = {
        source: np.zeros((target_named(source).channels, frames), dtype=np.float32)
        for source, _ in WAYS
    }
    at = 0
    for block in blocks:
        count = 0
        for name, part in block.items():
            count = part.shape[1]
            whole[name][:, at : at + count] = part
        at += count
    return whole


class _Folding:
    """Powers before and after each way, by band and step."""

    def __init__(self, mix: Mix) -> None:
        self.rate_hz = mix.sample_rate_hz
        self._hop = round(STEP_S * self.rate_hz / _SEGMENTS)
        self._step = self._hop * _SEGMENTS
        self._size = 2 * self._hop
        self._window = get_window("hann", self._size).astype(np.float32)
        self._hertz = rfftfreq(self._size, 1.0 / self.rate_hz)
        self._ways = [_Way(source, target, mix) for source, target in WAYS]

    def powers(
        self,
        blocks: Iterable[dict[str, Block]],
        on_frame: Callable[[int], None] = lambda at: None,
    ) -> list[Powers]:
        """The powers of all ways, one each of WAYS."""
        found: list[list[NDArray[np.float64]]] = [[] for _ in WAYS]
        held: dict[str, Block] = {}
        at = 0
        for block in blocks:
            held = {name: np.append(held[name], b, 1) if held else b for name, b in block.items()}
            count = next(iter(held.values())).shape[1]
            while count >= self._step + self._hop:
                self._add(found, held)
                held = {name: rest[:, self._step :] for name, rest in held.items()}
                count -= self._step
                at += self._step
            on_frame(at)
        if held:
            missing = self._step + self._hop - next(iter(held.values())).shape[1]
            self._add(found, {n: np.pad(b, ((0, 0), (0, missing))) for n, b in held.items()})
        return [
            np.array(steps).reshape(-1, 2, len(THIRDS_HZ)).transpose(1, 0, 2) for steps in found
        ]

    def mean_powers(self, sound: dict[str, Block]) -> list[NDArray[np.float64]]:
        """The powers of all ways, (before, after), of all frequencies and steps together."""
        return [way.mean_powers(sound[way.source]) for way in self._ways]

    def _add(self, found: list[list[NDArray[np.float64]]], sound: dict[str, Block]) -> None:
        """One step of all ways: its segments, half over one another."""
        hop = self._hop
        spectra: dict[str, NDArray[np.complex64]] = {}
        for name, block in sound.items():
            parts = np.stack([block[:, n * hop :][:, : self._size] for n in range(_SEGMENTS)])
            spectra[name] = rfft(parts * self._window)  # (segments, channels, frequencies)
        for steps, way in zip(found, self._ways, strict=True):
            own = spectra[way.source]
            steps.append(np.stack([self._banded(own[:, way.full]), self._banded(way.matrix @ own)]))

    def _banded(self, spectra: NDArray[np.complex64]) -> NDArray[np.float64]:
        """The power of all channels together, in each band."""
        power = np.sum(spectra.real**2 + spectra.imag**2, axis=(0, 1), dtype=float)
        scale = 2.0 / (_SEGMENTS * self._size * float(np.sum(self._window**2)))
        return banded(power * scale, self._hertz, THIRDS_HZ)

    def worst_stretch(self, whole: list[Powers]) -> int:
        """The frame from which on, for RANKED_S, most power is lost by all ways together."""
        lost = np.sum([np.maximum(before - kept, 0.0).sum(axis=1) for before, kept in whole], 0)
        span = round(RANKED_S / STEP_S)
        sums = np.concatenate([[0.0], np.cumsum(lost)])
        best = int(np.argmax(sums[span:] - sums[:-span])) if len(lost) > span else 0
        return best * self._step

    def told(self, way: tuple[str, str], powers: Powers, first: int, causes: list[Cause]) -> Fold:
        """A way in figures."""
        by_step = powers.sum(axis=2)
        losses = [_loss_db(one) for one in by_step.T]
        loud = by_step[0] > _SOFT * by_step[0].max(initial=0.0)
        worst = max(
            (n for n, loss in enumerate(losses) if loss is not None and loud[n]),
            key=lambda n: losses[n] or 0.0,
            default=None,
        )
        step_s = self._step / self.rate_hz
        return Fold(
            *way,
            _loss_db(by_step.sum(axis=1)),
            [_loss_db(one) for one in powers.sum(axis=1).T],
            losses,
            None if worst is None else round(worst * step_s, 3),
            round(first / self.rate_hz, 3),
            causes[:_MOST_NAMED],
        )


class _Way:
    """One way of folding: what counts of the source, (channels), and what becomes of it."""

    def __init__(self, source: str, target: str, mix: Mix) -> None:
        self.source = source
        self.full = ~np.array(layout_named(source).is_lfe)
        self.matrix = conversion(source, target, mix.fold_down.shares).astype(np.complex64)
        if mix.fold_down.surround_shift:
            self.matrix = self.matrix * np.where(folded_behind(source, target), -1j, 1.0)

    def mean_powers(self, sound: Block) -> NDArray[np.float64]:
        frames = sound.shape[1]
        straight, turned = (np.ascontiguousarray(m) for m in (self.matrix.real, self.matrix.imag))
        behind = np.flatnonzero(turned.any(axis=0))
        # a turn by -90 degrees is a Hilbert transform
        shifted = hilbert(sound[behind], next_fast_len(frames)).imag if behind.size else None
        sums: NDArray[np.float64] = np.zeros(2)
        for at in range(0, frames, _PART):
            part = sound[:, at : at + _PART]
            kept = straight @ part
            if shifted is not None:
                kept = kept - turned[:, behind] @ shifted[:, at : at + kept.shape[1]]
            sums += [float(np.vdot(one, one)) for one in (part[self.full], kept)]
        sums /= frames
        return sums


def _loss_db(before_and_after: NDArray[np.float64]) -> float | None:
    """What is lost of a power before, over the power after; None in silence."""
    before, kept = before_and_after
    if before < _SILENCE:
        return None
    return round(float(min(10.0 * np.log10(before / max(kept, 1e-30)), LARGEST_LOSS_DB)), 2)
