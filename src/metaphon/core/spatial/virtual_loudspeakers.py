"""Layouts of virtual loudspeakers: directions that a return is played from as objects."""

from metaphon.core.spatial.layouts import Layout, own_layout


def _virtual(title: str, *angles_deg: tuple[int, int]) -> Layout:
    rows = (f"V{n} {azimuth} {elevation}" for n, (azimuth, elevation) in enumerate(angles_deg, 1))
    return own_layout(title, "\n".join(rows))


BEHIND_DEG = 260.0  # between the sides of a pair that stands behind, the left one at the left
ABOVE = _virtual("Above", (45, 50), (-45, 50), (135, 50), (-135, 50))
