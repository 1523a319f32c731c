"""A set of loudspeakers.

Each with its own gain, delay and polarity, and a signal that walks them.
"""

import numpy as np
from numpy.typing import NDArray

from metaphon.core.document.targets import Target
from metaphon.core.dsp.block import Block
from metaphon.core.dsp.delay_line import DelayLine
from metaphon.core.listen.monitor import Loudspeaker, LoudspeakerSet
from metaphon.core.spatial.air import SPEED_OF_SOUND_M_S
from metaphon.core.spatial.decoding import decode_matrix
from metaphon.core.spatial.downmix import Shares, conversion
from metaphon.core.spatial.layouts import layout_named

_STEP_S = 3.0  # how long the test signal stays on one channel
_NOISE_S = 1.6
_BEEP_S = 0.12
_TEST_GAIN = 0.1


def settings_of(chosen: LoudspeakerSet) -> tuple[Loudspeaker, ...]:
    """One loudspeaker for each channel, those not set up yet as they are by default."""
    channels = layout_named(chosen.layout).channels
    return (*chosen.loudspeakers, *[Loudspeaker()] * channels)[:channels]


def made_up(chosen: LoudspeakerSet) -> NDArray[np.float64]:
    """Delay in s and gain of each loudspeaker, (loudspeakers, 2), so that all arrive alike.

    Plus its own settings.

    The farthest sets the time, and the level: nearer ones wait and are turned down (inverse
    distance law).
    """
    rows = settings_of(chosen)
    farthest = max(row.distance_m for row in rows)
    found = []
    for row in rows:
        delay = (farthest - row.distance_m) / SPEED_OF_SOUND_M_S if chosen.aligned else 0.0
        gain = row.distance_m / farthest if chosen.aligned else 1.0
        gain *= 10.0 ** (row.trim_db / 20.0) * (-1.0 if row.inverted else 1.0)
        found.append((delay + row.delay_ms / 1000.0, gain))
    return np.array(found)


class LoudspeakerFeeds:
    """From a format to the outputs that the loudspeakers of a set are wired to."""

    def __init__(self, chosen: LoudspeakerSet, heard: Target, rate_hz: int, shares: Shares) -> None:
        layout = layout_named(chosen.layout)
        self._matrix = _into(heard, chosen.layout, shares).astype(np.float32)
        delays, gains = made_up(chosen).T
        self._gains = gains.astype(np.float32)[:, None]
        self._delays = [DelayLine(1, round(delay * rate_hz)) for delay in delays]
        self._outputs = [
            (row.output or i) - 1 for i, row in enumerate(settings_of(chosen), start=1)
        ]
        self._count = max(layout.channels, max(self._outputs) + 1)
        self._test = None if chosen.test == "off" else TestSignal(chosen, rate_hz)

    def process(self, block: Block) -> Block:
        """Take and give (channels, frames), going on from the block before."""
        feeds = self._test.process(block.shape[1]) if self._test else self._matrix @ block
        feeds = feeds * self._gains
        out = np.zeros((self._count, block.shape[1]), dtype=np.float32)
        for output, delay, feed in zip(self._outputs, self._delays, feeds, strict=True):
            out[output] += delay.process(feed[None])[0]
        return out


def _into(heard: Target, layout: str, shares: Shares) -> NDArray[np.float64]:
    if heard.order is not None:
        return decode_matrix(heard.order, layout_named(layout))
    return conversion(heard.layout.name if heard.layout else "0+2+0", layout, shares)


class TestSignal:
    """Noise on one loudspeaker after another; `code` follows it with the channel's number.

    Long beeps count five.
    """

    __test__ = False  # not a test case, whatever a runner makes of the name

    def __init__(self, chosen: LoudspeakerSet, rate_hz: int) -> None:
        self._channels = layout_named(chosen.layout).channels
        self._only = chosen.test_channel
        self._coded = chosen.test == "code"
        self._rate_hz = rate_hz
        self._random = np.random.default_rng(1)
        self._smooth = np.zeros(1)
        self._at = 0

    def process(self, frames: int) -> Block:
        """Give the next `frames` frames, (channels, frames)."""
        place = np.arange(self._at, self._at + frames) / self._rate_hz
        self._at += frames
        step = (place // _STEP_S).astype(int) % self._channels
        if self._only is not None:
            step[:] = min(self._only, self._channels) - 1
        within = place % _STEP_S
        envelope = np.clip(np.minimum(within, _NOISE_S - within) / 0.02, 0.0, 1.0)
        sound = self._random.standard_normal(frames) * envelope
        if self._coded:
            for channel in np.unique(step):
                sound += np.where(step == channel, _beeps(within, int(channel) + 1), 0.0)
        out = np.zeros((self._channels, frames), dtype=np.float32)
        out[step, np.arange(frames)] = sound * _TEST_GAIN
        return out


def _beeps(within_s: NDArray[np.float64], number: int) -> NDArray[np.float64]:
    sound = np.zeros_like(within_s)
    at = _NOISE_S + 0.15
    for length in [_BEEP_S * 2] * (number // 5) + [_BEEP_S * 0.6] * (number % 5):
        along = within_s - at
        shape = np.clip(np.minimum(along, length - along) / 0.005, 0.0, 1.0)
        sound += shape * 2.0 * np.sin(2 * np.pi * 880.0 * along)
        at += length + 0.06
    return sound
