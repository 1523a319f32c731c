"""Loudspeaker layouts of ITU-R BS.2051-3: names, channel order and nominal directions.

One row a layout.
"""

import re
from dataclasses import dataclass
from functools import cached_property, lru_cache

import numpy as np

from metaphon.core.errors import InputError
from metaphon.core.spatial.directions import Vectors, unit_vectors

# label: (azimuth_deg, elevation_deg), nominal. Upper layer 30, lower layer -30 (BS.2051-3, table
# 1).
LOUDSPEAKERS: dict[str, tuple[float, float]] = {
    "M+000": (0, 0),
    "M+SC": (15, 0),
    "M-SC": (-15, 0),
    "M+030": (30, 0),
    "M-030": (-30, 0),
    "M+045": (45, 0),
    "M-045": (-45, 0),
    "M+060": (60, 0),
    "M-060": (-60, 0),
    "M+090": (90, 0),
    "M-090": (-90, 0),
    "M+110": (110, 0),
    "M-110": (-110, 0),
    "M+135": (135, 0),
    "M-135": (-135, 0),
    "M+180": (180, 0),
    "U+000": (0, 30),
    "U+030": (30, 30),
    "U-030": (-30, 30),
    "U+045": (45, 30),
    "U-045": (-45, 30),
    "U+090": (90, 30),
    "U-090": (-90, 30),
    "U+110": (110, 30),
    "U-110": (-110, 30),
    "U+135": (135, 30),
    "U-135": (-135, 30),
    "U+180": (180, 30),
    "T+000": (0, 90),
    "B+000": (0, -30),
    "B+045": (45, -30),
    "B-045": (-45, -30),
    "LFE1": (45, -30),
    "LFE2": (-45, -30),
}


LEVEL_DEG = 10.0  # no higher or lower is at the level of the ears
TOP_DEG = 75.0  # from here on it is overhead


@dataclass(frozen=True)
class Layout:
    """A loudspeaker layout.

    Its name (of BS.2051 where it has one), its everyday name and its channels in order.

    `places` are (azimuth, elevation) in degrees of each channel, for layouts that are not in the
    table.
    """

    name: str
    everyday: str
    labels: tuple[str, ...]
    places: tuple[tuple[float, float], ...] | None = None

    @property
    def channels(self) -> int:
        """How many channels it has."""
        return len(self.labels)

    @property
    def title(self) -> str:
        """Its name with the everyday one."""
        return self.everyday if self.places else f"{self.everyday} ({self.name})"

    @cached_property
    def is_lfe(self) -> tuple[bool, ...]:
        """Which channels carry low-frequency effects."""
        return tuple(label.startswith("LFE") for label in self.labels)

    @cached_property
    def main(self) -> tuple[int, ...]:
        """The indices of the channels that have a direction (all but LFE)."""
        return tuple(i for i, lfe in enumerate(self.is_lfe) if not lfe)

    @cached_property
    def angles_deg(self) -> tuple[tuple[float, float], ...]:
        """Azimuth and elevation of every loudspeaker, in degrees."""
        return self.places or tuple(LOUDSPEAKERS[label] for label in self.labels)

    @cached_property
    def vectors(self) -> Vectors:
        """Unit vectors of all channels, (channels, 3)."""
        azimuth, elevation = np.array(self.angles_deg).T
        return unit_vectors(azimuth, elevation)

    @cached_property
    def mirror(self) -> tuple[int, ...] | None:
        """For each channel the index of the one on the other side.

        None where a loudspeaker has no such partner.
        """
        found = []
        for i, vector in enumerate(self.vectors * (-1.0, 1.0, 1.0)):
            near = [k for k in range(self.channels) if self.is_lfe[k] == self.is_lfe[i]]
            apart = [float(np.linalg.norm(self.vectors[k] - vector)) for k in near]
            if not self.is_lfe[i] and min(apart) > 1e-6:
                return None
            found.append(i if self.is_lfe[i] else near[int(np.argmin(apart))])
        return tuple(found)


def _layout(name: str, everyday: str, labels: str) -> Layout:
    return Layout(name, everyday, tuple(labels.split()))


_FIVE = "M+030 M-030 M+000 LFE1 M+110 M-110"
_SEVEN = "M+030 M-030 M+000 LFE1 M+090 M-090 M+135 M-135"

LAYOUTS: dict[str, Layout] = {
    row.name: row
    for row in (
        _layout("0+1+0", "Mono", "M+000"),
        _layout("0+2+0", "Stereo", "M+030 M-030"),
        _layout("0+3+0", "LCR", "M+030 M-030 M+000"),  # common practice, not in BS.2051
        _layout("0+4+0", "Quad", "M+045 M-045 M+135 M-135"),  # common practice, not in BS.2051
        _layout("0+5+0", "5.1", _FIVE),
        _layout("2+5+0", "5.1.2", f"{_FIVE} U+030 U-030"),
        _layout("4+5+0", "5.1.4", f"{_FIVE} U+030 U-030 U+110 U-110"),
        _layout("4+5+1", "5.1.4 and below", f"{_FIVE} U+030 U-030 U+110 U-110 B+000"),
        _layout("0+7+0", "7.1", _SEVEN),
        _layout("2+7+0", "7.1.2", f"{_SEVEN} U+090 U-090"),  # common practice
        _layout("4+7+0", "7.1.4", f"{_SEVEN} U+045 U-045 U+135 U-135"),
        _layout(
            "3+7+0",
            "7.1.3",
            "M+000 M+030 M-030 U+045 U-045 M+090 M-090 M+135 M-135 U+180 LFE1 LFE2",
        ),
        _layout("4+9+0", "9.1.4", f"{_SEVEN} U+045 U-045 U+135 U-135 M+SC M-SC"),
        _layout(
            "9+10+3",
            "22.2",
            "M+060 M-060 M+000 LFE1 M+135 M-135 M+030 M-030 M+180 LFE2 M+090 M-090 "
            "U+045 U-045 U+000 T+000 U+135 U-135 U+090 U-090 U+180 B+000 B+045 B-045",
        ),
    )
}

# What a recording of so many channels is taken for, until somebody says otherwise (common
# practice).
_BY_CHANNELS = {
    1: "0+1+0",
    2: "0+2+0",
    3: "0+3+0",
    4: "0+4+0",
    6: "0+5+0",
    8: "0+7+0",
    10: "2+7+0",
    12: "4+7+0",
    14: "4+9+0",
    24: "9+10+3",
}


OWN = "own:"  # what the name of a layout of one's own begins with; all of it follows in the name
_MOST_OWN = 64
_CLOSEST_DEG = 4.0


@lru_cache(maxsize=256)
def layout_named(name: str) -> Layout:
    """Look a layout up by its BS.2051 name, or read one of one's own.

    Raises InputError for an unknown one.
    """
    if name in LAYOUTS:
        return LAYOUTS[name]
    if name.startswith(OWN):
        title, *rows = name.removeprefix(OWN).split(";")
        return own_layout(title, "\n".join(row.replace("=", " ").replace(",", " ") for row in rows))
    raise InputError(f"There is no loudspeaker layout {name}; use one of {', '.join(LAYOUTS)}.")


def layout_to_play_on(name: str) -> Layout:
    """Look a layout up as `layout_named` does; InputError too for one of LFE channels alone."""
    layout = layout_named(name)
    if not layout.main:
        raise InputError(f"{layout.title} has an LFE alone; add a loudspeaker to it.")
    return layout


def own_layout(title: str, table: str) -> Layout:
    """A layout from a table of one loudspeaker a line: label, azimuth, elevation in degrees.

    LFE needs no angles.

    Raises InputError naming the line that is wrong, or what the whole lacks.
    """
    title = " ".join(title.split())
    if not re.fullmatch(r"[\w .()+-]{1,40}", title):
        raise InputError("A layout needs a name of letters and figures, 40 at most; type one.")
    labels: list[str] = []
    places: list[tuple[float, float]] = []
    for number, line in enumerate(table.splitlines(), start=1):
        cells = line.replace(",", " ").replace(";", " ").replace("\u2212", "-").split()
        if not cells or cells[0].startswith("#"):
            continue
        label = cells[0]
        try:
            azimuth, elevation = (
                float(cell) for cell in (*cells[1:], *("0", "0")[len(cells) - 1 :])
            )
        except ValueError:
            raise InputError(
                f"Line {number}: write label, azimuth, elevation, as in L 30 0."
            ) from None
        if not re.fullmatch(r"[A-Za-z0-9+_.-]{1,12}", label) or label in labels:
            raise InputError(
                f"Line {number}: the label {label} is used twice or has signs in it; write another."
            )
        if not (-180.0 <= azimuth <= 180.0 and -90.0 <= elevation <= 90.0):
            raise InputError(
                f"Line {number}: azimuth may be -180 to 180, elevation -90 to 90 degrees."
            )
        labels.append(label)
        places.append((azimuth, elevation))
    name = OWN + ";".join(
        [title, *(f"{a}={x:g},{y:g}" for a, (x, y) in zip(labels, places, strict=True))]
    )
    layout = Layout(name, title, tuple(labels), tuple(places))
    if not 0 < layout.channels <= _MOST_OWN:
        raise InputError(f"A layout has 1 to {_MOST_OWN} loudspeakers; this has {layout.channels}.")
    main = list(layout.main)
    if not main:  # an LFE by itself, as one channel of a recording
        return layout
    near = np.degrees(np.arccos(np.clip(layout.vectors[main] @ layout.vectors[main].T, -1.0, 1.0)))
    near += np.eye(len(main)) * 360.0
    one, other = divmod(int(np.argmin(near)), len(main))
    if len(main) > 1 and near[one, other] < _CLOSEST_DEG:
        pair = f"{labels[main[one]]} and {labels[main[other]]}"
        raise InputError(
            f"{pair} stand at one place; set them {_CLOSEST_DEG:g} degrees apart or more."
        )
    return layout


def layout_for_channels(channels: int) -> Layout:
    """The layout a recording with this many channels is taken for.

    Raises InputError where there is none.
    """
    name = _BY_CHANNELS.get(channels)
    if name is None:
        raise InputError(
            f"{channels} channels fit no loudspeaker layout; place the recording as a "
            "scene or split it."
        )
    return LAYOUTS[name]
