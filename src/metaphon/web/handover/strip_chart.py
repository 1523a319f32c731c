"""Correlation over time as an SVG path, 600 units wide.

+1 at the top (0) and -1 at the bottom (2).
"""

from collections.abc import Sequence

WIDTH = 600.0


def correlation_path(values: Sequence[float | None]) -> str:
    """A line broken where a channel is silent.

    Each column shows its lowest value, so no dip is hidden.
    """
    if not values:
        return ""
    columns = min(len(values), 300)
    parts = []
    drawing = False
    for column in range(columns):
        held = [
            v
            for v in values[column * len(values) // columns : (column + 1) * len(values) // columns]
            if v is not None
        ]
        if held:
            parts.append(
                f"{'L' if drawing else 'M'} {(column + 0.5) / columns * WIDTH:.1f} "
                f"{1.0 - min(held):.3f}"
            )
        drawing = bool(held)
    return " ".join(parts)
