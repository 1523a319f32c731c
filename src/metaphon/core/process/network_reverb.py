"""A room from a feedback network.

Sixteen delays that feed each other without loss but for the decay.
"""

from typing import ClassVar, Literal, NamedTuple

import numba
import numpy as np
from numpy.typing import NDArray
from scipy.linalg import hadamard

from metaphon.core.dsp.block import Block
from metaphon.core.process.processor import Processor, Running, parameter, switch

LINES = 16
# Spread over a room's spacings so that no two share a factor once made prime; seconds at size 1.
_SPREAD_S = 0.0171 * 4.6 ** (np.arange(LINES) / (LINES - 1))
_DIFFUSERS_S = (0.0047, 0.0036, 0.0127, 0.0093)
_DIFFUSION = 0.6
_AT_ONCE = 128  # samples


class NetworkReverb(Processor):
    """A shared space. Decay and its fall towards the treble, size, pre-delay."""

    title: ClassVar[str] = "Network reverb"
    is_reverb: ClassVar[bool] = True

    kind: Literal["network_reverb"] = "network_reverb"
    decay_s: float = parameter(
        2.0,
        0.1,
        30.0,
        unit="s",
        step=0.05,
        scale="log",
        help="Time to fall by 60 dB at low frequencies.",
    )
    treble_decay: float = parameter(
        0.5,
        0.05,
        1.0,
        unit="",
        step=0.01,
        help="Decay at the highest frequencies, as a part of the decay.",
    )
    size: float = parameter(1.0, 0.2, 3.0, unit="", step=0.05, help="Spacing of the reflections.")
    predelay_ms: float = parameter(
        20.0, 0.0, 250.0, unit="ms", step=1.0, help="Time before the room answers."
    )
    wet_only: bool = switch(
        True, help="Give the room alone, as a return should; off adds the dry sound."
    )

    def start(self, channels: int, rate_hz: int) -> Running:
        return _NetworkReverb(self, channels, rate_hz)

    @property
    def passes_dry(self) -> bool:
        return not self.wet_only

    @property
    def tail_s(self) -> float:
        return self.decay_s + self.predelay_ms / 1000.0


class _Network(NamedTuple):
    """The delays that feed each other: their memory, where each is in it, and what they do."""

    lines: NDArray[np.float64]  # (lines, longest)
    lengths: NDArray[np.int64]
    at: NDArray[np.int64]
    filters: NDArray[np.float64]
    gain: NDArray[np.float64]
    pole: NDArray[np.float64]
    inputs: NDArray[np.float64]  # (lines, channels)
    outputs: NDArray[np.float64]  # (channels, lines)


class _Diffusion(NamedTuple):
    """The all-pass delays in front: their memory, their lengths, and where each is in it."""

    delays: NDArray[np.float64]  # (channels, delays, longest)
    lengths: NDArray[np.int64]
    at: NDArray[np.int64]


class _NetworkReverb:
    """Delay lines that feed each other through an orthogonal matrix.

    Per-line gain 10^(-3 d / decay) and a one-pole fall towards the treble.
    Source: Jot & Chaigne 1991.

    The room's response is scaled to unit energy whatever its decay (to about 2 dB), so a longer one
    is not louder.
    """

    def __init__(self, parameters: NetworkReverb, channels: int, rate_hz: int) -> None:
        self._dry = not parameters.wet_only
        self._channels = channels
        self._predelay = np.zeros(
            (channels, round(parameters.predelay_ms * 1e-3 * rate_hz)), dtype=np.float32
        )
        self._lengths = _primes(_SPREAD_S * parameters.size * rate_hz)
        seconds = self._lengths / rate_hz
        low = 10.0 ** (-3.0 * seconds / parameters.decay_s)
        high = 10.0 ** (-3.0 * seconds / (parameters.decay_s * parameters.treble_decay))
        # one pole with gain `low` at 0 Hz and `high` at half the sample rate
        self._pole = (low - high) / (low + high)
        self._gain = low * (1.0 - self._pole)
        signs = hadamard(LINES).astype(float)
        groups = min(channels, LINES)
        mine = np.arange(LINES)[:, None] % groups == np.arange(channels) % groups
        self._inputs = signs[:, np.arange(channels) % LINES] * mine / np.sqrt(np.sum(mine, axis=0))
        rows = [np.roll(signs[(c + 1) % LINES], 5 * (c // LINES)) for c in range(channels)]
        self._outputs = np.array(rows) / np.sqrt(LINES * self._energy())
        self._network = _Network(
            lines=np.zeros((LINES, int(self._lengths.max()))),
            lengths=self._lengths,
            at=np.zeros(LINES, dtype=np.int64),
            filters=np.zeros(LINES),
            gain=self._gain,
            pole=self._pole,
            inputs=self._inputs,
            outputs=self._outputs,
        )
        lengths = _primes(np.array(_DIFFUSERS_S) * rate_hz)
        self._diffusion = _Diffusion(
            delays=np.zeros((channels, len(_DIFFUSERS_S), int(lengths.max()))),
            lengths=lengths,
            at=np.zeros(len(_DIFFUSERS_S), dtype=np.int64),
        )

    def _energy(self) -> float:
        """The energy of the room's response before scaling.

        What passes the lines once, twice, and so on.
        """
        turn = np.exp(-1j * np.linspace(0.0, np.pi, 512))[:, None]
        passing = np.mean(np.abs(self._gain / (1.0 - self._pole * turn)) ** 2, axis=1)
        return float(np.mean(passing / (1.0 - np.minimum(passing, 0.999999))))

    def process(self, block: Block) -> Block:
        late = self._predelay.shape[1]
        source = block
        if late:
            joined = np.concatenate([self._predelay, block], axis=1)
            source, self._predelay = joined[:, : block.shape[1]], joined[:, block.shape[1] :]
        wet = np.empty((self._channels, block.shape[1]), dtype=np.float32)
        _run(np.ascontiguousarray(source), wet, self._network, self._diffusion)
        return wet + block if self._dry else wet


def _primes(lengths: np.ndarray) -> np.ndarray:
    """The next prime above each length, all different, so that echoes seldom coincide."""
    found: list[int] = []
    for length in lengths:
        candidate = int(length)
        while candidate in found or any(
            candidate % k == 0 for k in range(2, int(candidate**0.5) + 1)
        ):
            candidate += 1
        found.append(candidate)
    return np.array(found, dtype=np.int64)


@numba.njit(cache=True, nogil=True)
def _run(source, wet, network, diffusion):  # type: ignore[no-untyped-def]
    """All lines through a few samples at a time, fewer than the shortest delay holds.

    So loops run along time. `source` and `wet` are (channels, frames); `network` and `diffusion`
    are the state that goes on from block to block.
    """
    lines, lengths, at, filters, gain, pole, inputs, outputs = network
    diffusers, diffuser_lengths, diffuser_at = diffusion
    channels, frames = source.shape
    most = min(_AT_ONCE, lengths.min(), diffuser_lengths.min())
    heard = np.empty((LINES, most))
    entering = np.empty((channels, most))
    for first in range(0, frames, most):
        count = min(most, frames - first)
        for c in range(channels):
            entering[c, :count] = source[c, first : first + count]
            for d in range(len(diffuser_lengths)):
                before = min(
                    count, diffuser_lengths[d] - diffuser_at[d]
                )  # the delay's end, where it begins again
                _diffuse(diffusers[c, d, diffuser_at[d] :], entering[c, :before])
                _diffuse(diffusers[c, d], entering[c, before:count])
        for d in range(len(diffuser_lengths)):
            diffuser_at[d] = (diffuser_at[d] + count) % diffuser_lengths[d]
        for k in range(LINES):
            before = min(count, lengths[k] - at[k])
            heard[k, :before] = lines[k, at[k] : at[k] + before]
            heard[k, before:count] = lines[k, : count - before]
        _fall(heard, count, gain, pole, filters)
        for c in range(channels):
            _mix(wet[c, first : first + count], outputs[c], heard)
        # the fast Hadamard transform in place: sixteen lines mixed without loss
        step = 1
        while step < LINES:
            for a in range(0, LINES, 2 * step):
                for b in range(a, a + step):
                    _butterfly(heard[b, :count], heard[b + step, :count])
            step *= 2
        for k in range(LINES):
            _return(heard[k, :count], inputs[k], entering)
            before = min(count, lengths[k] - at[k])
            lines[k, at[k] : at[k] + before] = heard[k, :before]
            lines[k, : count - before] = heard[k, before:count]
            at[k] = (at[k] + count) % lengths[k]


@numba.njit(cache=True, nogil=True)
def _diffuse(delay, sound):  # type: ignore[no-untyped-def]
    """All-pass (Schroeder 1962) over samples (frames) in place; `delay` is its memory."""
    for i in range(len(sound)):
        old = delay[i]
        inner = sound[i] - _DIFFUSION * old
        delay[i] = inner
        sound[i] = old + _DIFFUSION * inner


@numba.njit(cache=True, nogil=True)
def _fall(heard, count, gain, pole, filters):  # type: ignore[no-untyped-def]
    """What each line loses a round: its gain and a one-pole fall towards the treble, in place.

    `heard` is (LINES, at least count); `filters` (LINES) is the memory.
    """
    for i in range(
        count
    ):  # all lines at each sample: they do not wait for each other, as samples would
        for k in range(LINES):
            last = gain[k] * heard[k, i] + pole[k] * filters[k]
            if abs(last) < 1e-30:  # keep what has died away out of the slow range of numbers
                last = 0.0
            heard[k, i] = filters[k] = last


@numba.njit(cache=True, nogil=True)
def _mix(wet, outputs, heard):  # type: ignore[no-untyped-def]
    """One output channel, (frames): the sum of all lines by their `outputs` (LINES)."""
    total = np.zeros(len(wet))
    for k in range(LINES):
        for i in range(len(wet)):
            total[i] += outputs[k] * heard[k, i]
    wet[:] = total


@numba.njit(cache=True, nogil=True)
def _butterfly(one, two):  # type: ignore[no-untyped-def]
    """Sum and difference of two lines, (frames) each, in place: a step of the Hadamard matrix."""
    for i in range(len(one)):
        one[i], two[i] = one[i] + two[i], one[i] - two[i]


@numba.njit(cache=True, nogil=True)
def _return(sound, inputs, entering):  # type: ignore[no-untyped-def]
    """What goes back into a line, (frames): the mixed lines, of unit energy, and the new sound."""
    for i in range(len(sound)):
        sound[i] *= 0.25
    for c in range(len(inputs)):
        if inputs[c] != 0.0:
            for i in range(len(sound)):
                sound[i] += inputs[c] * entering[c, i]
