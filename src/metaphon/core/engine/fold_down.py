"""A result of more, or fewer, than two channels as a stereo pair, so that it can be heard on one."""

from pathlib import Path

import numpy as np

from metaphon.core.files.audio import AudioWriter, ClipReader, probe
from metaphon.core.measure.correlation import CorrelationMeter
from metaphon.core.scene.targets import Target
from metaphon.core.spatial.ambisonics import decode_matrix
from metaphon.core.spatial.downmix import conversion
from metaphon.core.spatial.layouts import LAYOUTS

_BLOCK = 1 << 16
_STEREO = LAYOUTS["0+2+0"]


def fold_down_file(path: Path, target: Target, folded: Path) -> list[float | None]:
    """Write the fold-down of a rendered file as 24-bit FLAC; gives its correlation every 100 ms.

    Loudspeaker formats fold by ITU-R BS.775-4, scenes are decoded to a stereo pair.
    """
    if target.layout:
        matrix = conversion(target.layout.name, _STEREO.name)
    else:
        assert target.order is not None
        matrix = decode_matrix(target.order, _STEREO)
    info = probe(path)
    meter = CorrelationMeter(info.sample_rate_hz)
    reader = ClipReader(path)
    with AudioWriter(folded, 2, info.sample_rate_hz, "24", "flac") as writer:
        for first in range(0, info.frames, _BLOCK):
            pair = matrix.astype(np.float32) @ reader.read(first, min(_BLOCK, info.frames - first))
            meter.add(pair[0], pair[1])
            writer.add(pair)
    reader.close()
    meter.finish()
    return meter.over_time
