"""What each processor of a strip does to its loudness, measured over a span."""

import numpy as np

from metaphon.core.document.mix import Mix
from metaphon.core.dsp.block import Block
from metaphon.core.dsp.motion import PIECE
from metaphon.core.edits.command import strip_of
from metaphon.core.engine.strip_width import before_chain, fed_by
from metaphon.core.measure.loudness import LoudnessMeter, channel_weights


def loudness_changes(mix: Mix, strip_id: str, span: tuple[int, int]) -> list[float | None]:
    """Measure what each processor of a strip adds to its loudness, in LU.

    Parameters
    ----------
    mix : Mix
        The whole of it; only what reaches the strip is played.
    strip_id : str
        A track or bus.
    span : (int, int)
        From and up to, in frames of the mix. Automation is left out: each processor is at rest.

    Returns
    -------
    list of float or None
        One for each processor, by ITU-R BS.1770-5; None where it is bypassed, or before or after
        it nothing is louder than -70 LUFS.

    Raises
    ------
    InputError
        Where there is nothing to hear.
    """
    width, sound = before_chain(fed_by(mix, strip_id), strip_id, span)
    weights = channel_weights(width.layout) if width.layout else np.ones(1)
    rate_hz = mix.sample_rate_hz
    short = -sound.shape[1] % PIECE
    sound = np.pad(sound, ((0, 0), (0, short)))

    def loudness(block: Block) -> float | None:
        meter = LoudnessMeter(weights, rate_hz)
        meter.add(np.ascontiguousarray(block[: len(weights)]))  # of a scene its channel W
        return meter.integrated_lufs

    changes: list[float | None] = []
    before = loudness(sound)
    for processor in strip_of(mix, strip_id).chain:
        if processor.bypassed:
            changes.append(None)
            continue
        sound = processor.apply(sound, rate_hz)
        after = loudness(sound[:, processor.latency_samples(rate_hz) :])
        changes.append(None if before is None or after is None else after - before)
        before = after
    return changes
