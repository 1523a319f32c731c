"""A room from a feedback network: sixteen delays that feed each other without loss but for the decay."""

from typing import ClassVar, Literal

import numba
import numpy as np
from scipy.linalg import hadamard

from metaphon.core.process.processor import Block, Processor, Running, parameter, switch

LINES = 16
# Spread over a room's spacings so that no two share a factor once made prime; seconds at size 1.
_SPREAD_S = 0.0171 * 4.6 ** (np.arange(LINES) / (LINES - 1))
_DIFFUSERS_S = (0.0047, 0.0036, 0.0127, 0.0093)
_DIFFUSION = 0.6


class NetworkReverb(Processor):
    """A shared space. Decay and its fall towards the treble, size, pre-delay."""

    title: ClassVar[str] = "Network reverb"

    kind: Literal["network_reverb"] = "network_reverb"
    decay_s: float = parameter(
        2.0, 0.1, 30.0, unit="s", step=0.05, scale="log", help="Time to fall by 60 dB at low frequencies."
    )
    treble_decay: float = parameter(
        0.5, 0.05, 1.0, unit="", step=0.01, help="Decay at the highest frequencies, as a part of the decay."
    )
    size: float = parameter(1.0, 0.2, 3.0, unit="", step=0.05, help="Spacing of the reflections.")
    predelay_ms: float = parameter(20.0, 0.0, 250.0, unit="ms", step=1.0, help="Time before the room answers.")
    wet_only: bool = switch(True, help="Give the room alone, as a return should; off adds the dry sound.")

    def start(self, channels: int, rate_hz: int) -> Running:
        return _NetworkReverb(self, channels, rate_hz)

    @property
    def tail_s(self) -> float:
        return self.decay_s + self.predelay_ms / 1000.0


class _NetworkReverb:
    """Source: Jot & Chaigne 1991, per-line gain 10^(-3 d / decay) and a one-pole fall towards the treble.

    The room's response is scaled to unit energy whatever its decay (to about 2 dB), so a longer one is not louder.
    """

    def __init__(self, parameters: NetworkReverb, channels: int, rate_hz: int) -> None:
        self._dry = not parameters.wet_only
        self._channels = channels
        self._predelay = np.zeros((channels, round(parameters.predelay_ms * 1e-3 * rate_hz)), dtype=np.float32)
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
        self._lines = np.zeros((LINES, int(self._lengths.max())))
        self._filters = np.zeros(LINES)
        self._at = np.zeros(LINES, dtype=np.int64)
        self._diffuser_lengths = _primes(np.array(_DIFFUSERS_S) * rate_hz)
        self._diffusers = np.zeros((channels, len(_DIFFUSERS_S), int(self._diffuser_lengths.max())))
        self._diffuser_at = np.zeros(len(_DIFFUSERS_S), dtype=np.int64)

    def _energy(self) -> float:
        """The energy of the room's response before scaling: what passes the lines once, twice, and so on."""
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
        _run(
            np.ascontiguousarray(source),
            wet,
            self._lines,
            self._lengths,
            self._at,
            self._filters,
            self._gain,
            self._pole,
            self._inputs,
            self._outputs,
            self._diffusers,
            self._diffuser_lengths,
            self._diffuser_at,
        )
        return wet + block if self._dry else wet


def _primes(lengths: np.ndarray) -> np.ndarray:
    """The next prime above each length, all different, so that echoes seldom coincide."""
    found: list[int] = []
    for length in lengths:
        candidate = int(length)
        while candidate in found or any(candidate % k == 0 for k in range(2, int(candidate**0.5) + 1)):
            candidate += 1
        found.append(candidate)
    return np.array(found, dtype=np.int64)


@numba.njit(cache=True, nogil=True)
def _run(  # type: ignore[no-untyped-def]
    source, wet, lines, lengths, at, filters, gain, pole, inputs, outputs, diffusers, diffuser_lengths, diffuser_at
):
    channels, frames = source.shape
    heard = np.zeros(LINES)
    entering = np.zeros(channels)
    for i in range(frames):
        for c in range(channels):
            x = float(source[c, i])
            for d in range(len(diffuser_lengths)):
                old = diffusers[c, d, diffuser_at[d]]
                inner = x - _DIFFUSION * old
                diffusers[c, d, diffuser_at[d]] = inner
                x = old + _DIFFUSION * inner
            entering[c] = x
        for d in range(len(diffuser_lengths)):
            diffuser_at[d] = diffuser_at[d] + 1 if diffuser_at[d] + 1 < diffuser_lengths[d] else 0
        for k in range(LINES):
            filters[k] = gain[k] * lines[k, at[k]] + pole[k] * filters[k]
            if abs(filters[k]) < 1e-30:  # keep what has died away out of the slow range of numbers
                filters[k] = 0.0
            heard[k] = filters[k]
        for c in range(channels):
            value = 0.0
            for k in range(LINES):
                value += outputs[c, k] * heard[k]
            wet[c, i] = value
        # the fast Hadamard transform in place: sixteen lines mixed without loss
        step = 1
        while step < LINES:
            for a in range(0, LINES, 2 * step):
                for b in range(a, a + step):
                    one, two = heard[b], heard[b + step]
                    heard[b], heard[b + step] = one + two, one - two
            step *= 2
        for k in range(LINES):
            value = heard[k] * 0.25
            for c in range(channels):
                value += inputs[k, c] * entering[c]
            lines[k, at[k]] = value
            at[k] = at[k] + 1 if at[k] + 1 < lengths[k] else 0
