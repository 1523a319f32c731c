"""Layouts of virtual loudspeakers: directions that a return is played from as objects."""

from metaphon.core.spatial.layouts import Layout, own_layout


def _virtual(title: str, *angles_deg: tuple[int, int]) -> Layout:
    rows = (f"V{n} {azimuth} {elevation}" for n, (azimuth, elevation) in enumerate(angles_deg, 1))
    return own_layout(title, "\n".join(rows))


# between the sides of a pair about the middle behind; the left one at the left, at 130 degrees
BEHIND_DEG = -100.0
ABOVE = _virtual("Above", (45, 50), (-45, 50), (135, 50), (-135, 50))
