"""The two sides of a strip before and after its chain: how alike they are, and where."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.fft import rfft, rfftfreq
from scipy.signal import get_window

from metaphon.core.document.graph import destinations
from metaphon.core.document.mix import Mix, Strip
from metaphon.core.document.targets import Target
from metaphon.core.dsp.block import Block
from metaphon.core.edits.command import strip_of
from metaphon.core.engine.plan import compile
from metaphon.core.engine.render import Output, render
from metaphon.core.engine.stems import alone, width_of
from metaphon.core.errors import InputError
from metaphon.core.measure.correlation import correlations, of_pair, or_none
from metaphon.core.measure.thirds import THIRDS_HZ, banded
from metaphon.core.process.doubler import Doubler

_POINTS = 700  # of a picture of left against right
_SEGMENT = 8192


@dataclass(frozen=True)
class Sides:
    """What two sides have in common.

    `powers` are their mean products, (2, 2), and `thirds` those by THIRDS_HZ, (thirds, 2, 2);
    `bands` their correlation by THIRDS_HZ, None in silence; `points` their samples here and there,
    (2, points).
    """

    powers: NDArray[np.float64]
    thirds: NDArray[np.float64]
    bands: list[float | None]
    points: Block

    @property
    def figures(self) -> tuple[float | None, float | None]:
        """Correlation, and what folding down loses in dB."""
        return of_pair(self.powers)


def sides_of(sound: Block, rate_hz: int) -> Sides:
    """Measure a pair, (2, frames).

    Source: Welch 1967 for the spectra, half over one another.
    """
    wide = sound.astype(np.float64)
    window = get_window("hann", _SEGMENT)
    hertz = rfftfreq(_SEGMENT, 1.0 / rate_hz)
    sums = np.zeros((3, len(THIRDS_HZ)))
    for at in range(0, max(sound.shape[1] - _SEGMENT, 0) + 1, _SEGMENT // 2):
        part = wide[:, at : at + _SEGMENT]
        left, right = rfft(part * window[: part.shape[1]], _SEGMENT)
        products = np.stack([np.abs(left) ** 2, np.abs(right) ** 2, (left * np.conj(right)).real])
        sums += banded(products, hertz, THIRDS_HZ)
    every = max(sound.shape[1] // _POINTS, 1)
    left_power, right_power, both = sums / _SEGMENT**2
    return Sides(
        wide @ wide.T / max(sound.shape[1], 1),
        np.moveaxis(np.array([[left_power, both], [both, right_power]]), -1, 0),
        or_none(np.round(correlations(left_power, right_power, both), 3)),
        sound[:, ::every][:, :_POINTS],
    )


def through_chain(
    mix: Mix, strip_id: str, span: tuple[int, int], chain: bool = True, doubles: int | None = None
) -> Block:
    """A strip alone before its fader, as a pair, (2, frames).

    Parameters
    ----------
    mix, strip_id
        A strip of one or two channels; one is on both sides, each 3 dB softer.
    span
        From and up to, in frames.
    chain
        Whether it goes through its chain.
    doubles
        The place of a doubler, where its doubles alone are wanted.

    Raises
    ------
    InputError
        Where it is wider, or there is nothing to hear.
    """
    strip = strip_of(mix, strip_id)
    if doubles is not None:
        mix = doubles_only(mix, strip_id, doubles)
    if width_of(strip).channels > 2:
        channels = width_of(strip).channels
        raise InputError(f"{strip.name} has {channels} channels; width is that of two.")
    sound = _heard_of(mix, strip_id, span) if chain else before_chain(mix, strip_id, span)[1]
    return sound if len(sound) == 2 else np.repeat(sound, 2, axis=0) * np.float32(np.sqrt(0.5))


def before_chain(mix: Mix, strip_id: str, span: tuple[int, int]) -> tuple[Target, Block]:
    """The width of a strip, and what enters its chain over a span of frames, (channels, frames).

    Raises InputError where there is nothing to hear.
    """
    strip = strip_of(mix, strip_id)
    bypassed = tuple(one.model_copy(update={"bypassed": True}) for one in strip.chain)
    mix = mix.with_strip(strip.model_copy(update={"chain": bypassed}))
    return width_of(strip), _heard_of(mix, strip_id, span)


def _heard_of(mix: Mix, strip_id: str, span: tuple[int, int]) -> Block:
    """A strip alone before its fader over a span, with silence where it has ended."""
    width = width_of(strip_of(mix, strip_id))
    plan = compile(alone(mix, strip_id, width))
    parts = [blocks[0] for blocks in render(plan, [Output(width)], *span)]
    sound = np.concatenate([*parts, np.zeros((width.channels, 0), dtype=np.float32)], axis=1)
    short = span[1] - span[0] - sound.shape[1]
    return np.pad(sound, ((0, 0), (0, max(short, 0))))


def fed_by(mix: Mix, strip_id: str) -> Mix:
    """The mix with nothing but a strip and what reaches it, by output or send."""
    kept = {strip_id}
    while more := {
        strip.id
        for strip in mix.strips
        if strip.id not in kept and not kept.isdisjoint(destinations(strip))
    }:
        kept |= more

    def cut(strip: Strip) -> dict[str, object]:
        sends = tuple(send for send in strip.sends if send.bus in kept)
        return {"sends": sends, "output": strip.output if strip.output in kept else None}

    left = mix.with_strips(lambda strip: strip.model_copy(update=cut(strip)))
    return left.model_copy(
        update={
            "tracks": tuple(track for track in left.tracks if track.id in kept),
            "buses": tuple(bus for bus in left.buses if bus.id in kept),
            "automation": tuple(
                lane for lane in mix.automation if lane.target.split("/", 1)[0] in kept
            ),
            "groups": (),
        }
    )


def doubles_only(mix: Mix, strip_id: str, place: int) -> Mix:
    """The mix with a doubler that lets its original not be heard. Raises InputError for others."""
    strip = strip_of(mix, strip_id)
    chain = list(strip.chain)
    if place >= len(chain) or not isinstance(chain[place], Doubler):
        raise InputError("There is no doubler at this place; add one first.")
    chain[place] = chain[place].model_copy(update={"original": False, "bypassed": False})
    return mix.with_strip(strip.model_copy(update={"chain": tuple(chain)}))
