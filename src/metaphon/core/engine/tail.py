"""What a strip's chain makes of a click: its room alone, without the sound itself."""

import numpy as np
from scipy.fft import irfft, next_fast_len, rfft

from metaphon.core.document.channel_mapping import format_of
from metaphon.core.document.mix import Strip
from metaphon.core.dsp.block import Block
from metaphon.core.dsp.motion import PIECE, Motion
from metaphon.core.engine.plan import at_work, channels_of
from metaphon.core.spatial.binaural import loudspeaker_responses, scene_responses
from metaphon.core.spatial.head import SHIPPED, load_head

_LONGEST_S = 20.0
_AFTER_S = 0.3


def tail_of(strip: Strip, channels: int, rate_hz: int) -> Block:
    """The answer of a chain at rest to a click on its first channel, (channels, frames).

    Reverbs give their room alone, none of them held. It goes on until the tails of all processors
    are over, and for 20 s at most.
    """
    chain = [one.room_alone for one in at_work(strip)]
    rings_s = sum(one.tail_s(rate_hz) + one.latency_samples(rate_hz) / rate_hz for one in chain)
    frames = -(-round(min(rings_s + _AFTER_S, _LONGEST_S) * rate_hz) // PIECE) * PIECE
    kind = channels_of(strip, channels)
    sound = np.zeros((channels, frames), dtype=np.float32)
    sound[0, 0] = 1.0
    late = 0
    for one in chain:
        running = one.start(kind, rate_hz, one.latency_samples(rate_hz))
        late += one.latency_samples(rate_hz)
        parts = [
            running.process(sound[:, at : at + PIECE], Motion.still(one), at)
            for at in range(0, frames, PIECE)
        ]
        sound = np.concatenate(parts, axis=1)
    return np.ascontiguousarray(sound[:, late:])


def at_ears(strip: Strip, tail: Block, rate_hz: int) -> Block:
    """A tail as the shipped head hears it from where the strip's channels stand, (2, frames)."""
    own = format_of(strip, len(tail))
    head = load_head(SHIPPED, rate_hz)
    if own.layout is not None:
        responses = loudspeaker_responses(head, own.layout.name)
    else:
        responses = scene_responses(head, own.order or 0)
    size = next_fast_len(tail.shape[1] + responses.shape[2], real=True)
    spectra = np.einsum("ck,cek->ek", rfft(tail, size), rfft(responses, size))
    return np.asarray(irfft(spectra, size)[:, : tail.shape[1]], dtype=np.float32)
