"""The outline of a mix in time, as an SVG path 100 units wide and 2 high."""

from collections.abc import Iterable

import numpy as np

from metaphon.core.document.mix import heard_s
from metaphon.web.mixes.models import Clip

WIDTH = 100
_FLOOR_DB = -48.0


def outline_path(clips: Iterable[Clip], length_s: float) -> str:
    """A closed shape, mirrored about 0: the loudest of all clips in each hundredth of the mix.

    Height is level in dB, so that quiet passages can be seen.
    """
    tops = np.zeros(WIDTH)
    for row in clips:
        clip, audio = row.document, row.audio
        whole_s = audio.frames / row.track.mix.sample_rate_hz
        sounds_s = heard_s(clip.in_s, clip.length_s, whole_s)
        if sounds_s <= 0.0 or not audio.outline or length_s <= 0.0:
            continue
        middles_s = (np.arange(WIDTH) + 0.5) * length_s / WIDTH - clip.start_s
        inside = (middles_s >= 0.0) & (middles_s < sounds_s)
        outline = np.asarray(audio.outline, dtype=float)
        places = ((middles_s[inside] + clip.in_s) / whole_s * len(outline)).astype(int)
        level = outline[np.minimum(places, len(outline) - 1)] * 10.0 ** (clip.gain_db / 20.0)
        tops[inside] = np.maximum(tops[inside], level)
    height = np.clip(1.0 - 20.0 * np.log10(np.maximum(tops, 1e-6)) / _FLOOR_DB, 0.02, 1.0)
    upper = " ".join(f"{x} {-top:.2f}" for x, top in enumerate(height))
    lower = " ".join(f"{x} {top:.2f}" for x, top in reversed(list(enumerate(height))))
    return f"M {upper} L {lower} Z"
