"""What a file with an audio definition holds, in plain data."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from metaphon.core.document.alternatives import Varied
from metaphon.core.spatial.zones import Zone

Kind = Literal["bed", "object", "scene"]


@dataclass(frozen=True)
class Path:
    """Where an object is over time.

    `values` are (6, times) in the order of `document.positions.FORMS` of its form; in between they
    run straight. `divergence`, `diffuseness` and `gain`, an amplitude, are (times).
    """

    in_room: bool
    times_s: NDArray[np.float64]
    values: NDArray[np.float64]
    divergence: NDArray[np.float64]
    diffuseness: NDArray[np.float64]
    gain: NDArray[np.float64]


@dataclass(frozen=True)
class Loudspeaker:
    """A channel of a bed: its label by BS.2051, where it has one, and its direction in degrees."""

    label: str
    azimuth_deg: float
    elevation_deg: float

    @property
    def is_lfe(self) -> bool:
        """Whether it carries low-frequency effects."""
        return self.label.startswith("LFE")


@dataclass(frozen=True)
class Element:
    """One object of the model: a bed, an object or a scene, on channels of the file, from 0 on.

    `loudspeakers` are those of a bed, `paths` one a channel of an object, `order` that of a scene.
    `duration_s` is how long it lasts from its start, None up to the end; `channel_gains` are
    amplitudes of the channels of a bed or scene, empty where all are 1. `content` names what it
    belongs to, empty for what every programme has; `varied` is what a listener may change of it.
    """

    name: str
    kind: Kind
    channels: tuple[int, ...]
    loudspeakers: tuple[Loudspeaker, ...] = ()
    paths: tuple[Path, ...] = ()
    order: int = 0
    importance: int = 10
    gain_db: float = 0.0
    start_s: float = 0.0
    duration_s: float | None = None
    channel_gains: tuple[float, ...] = ()
    snap: bool = False
    divergence_range_deg: float = 45.0
    excluded: tuple[Zone, ...] = ()
    content: str = ""
    varied: Varied | None = None


@dataclass(frozen=True)
class Loudness:
    """What was measured of a programme played on loudspeakers."""

    integrated_lufs: float | None = None
    loudness_range_lu: float | None = None
    true_peak_dbtp: float | None = None
    max_momentary_lufs: float | None = None
    max_short_term_lufs: float | None = None


@dataclass(frozen=True)
class Programme:
    """One of the programmes of a file.

    `absent` are the places of elements that it is without, `gains_db` what others are turned up by
    in it.
    """

    name: str
    language: str = ""
    loudness: Loudness = Loudness()
    absent: frozenset[int] = frozenset()
    gains_db: Mapping[int, float] = field(default_factory=dict)


@dataclass(frozen=True)
class Definition:
    """A whole file: its programmes, its elements, and what could not be understood of it."""

    programmes: tuple[Programme, ...]
    elements: tuple[Element, ...]
    end_s: float
    notes: tuple[str, ...] = field(default=())
