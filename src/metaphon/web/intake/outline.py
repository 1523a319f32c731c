"""The outline of a recording as an SVG path on the mix's time line, 1000 units wide and 2 high."""

from collections.abc import Sequence

import numpy as np

WIDTH = 1000.0
_FLOOR_DB = -48.0


def outline_path(outline: Sequence[float], start_s: float, end_s: float, span_s: float) -> str:
    """A closed shape, mirrored about 0.

    Height is level in dB, so that quiet passages can be seen.
    """
    level = 20.0 * np.log10(np.maximum(np.asarray(outline, dtype=float), 1e-6))
    height = np.clip(1.0 - level / _FLOOR_DB, 0.015, 1.0)
    left, right = start_s / span_s * WIDTH, end_s / span_s * WIDTH
    columns = max(int((right - left) / 1.5), 2)
    groups = np.array_split(height, min(columns, len(height)))
    tops = [float(group.max()) for group in groups]
    x = np.linspace(left, right, len(tops))
    upper = " ".join(f"{a:.1f} {-b:.3f}" for a, b in zip(x, tops, strict=True))
    lower = " ".join(f"{a:.1f} {b:.3f}" for a, b in zip(x[::-1], tops[::-1], strict=True))
    return f"M {upper} L {lower} Z"
