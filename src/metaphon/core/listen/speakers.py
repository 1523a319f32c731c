"""Small and large loudspeakers that a mix meets: what they play, and how many of them there are.

All are made up after common practice, no source, but the telephone: its band is that of ITU-T G.712
(from memory).
"""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray
from scipy.fft import rfftfreq

from metaphon.core.document.targets import Target
from metaphon.core.engine.downmix import downmix_matrix
from metaphon.core.listen.headphones import FILTER_SIZE, minimum_phase_taps
from metaphon.core.listen.monitor import Speakers
from metaphon.core.spatial.downmix import PUBLISHED, Shares


@dataclass(frozen=True)
class Speaker:
    """A loudspeaker, or a pair.

    `points` are its response, (Hz, dB), 0 dB round 1 kHz. `mono`: there is one. `far` is what each
    ear hears of the other side, and `late_ms` how much later the right one is, at a driver's seat.
    `folds` is whether it folds wider formats by the published levels, whatever the mix says.
    """

    points: Sequence[tuple[float, float]]
    mono: bool = False
    far: float = 0.0
    late_ms: float = 0.0
    folds: bool = False


_TELEPHONE = (
    *((50, -50), (150, -26), (300, -1), (400, 0), (3000, 0)),
    *((3400, -1), (4000, -16), (4600, -40), (8000, -60)),
)
_KITCHEN = (
    *((40, -40), (100, -18), (180, -1), (250, 3), (400, 0)),
    *((2500, 1), (5000, 0), (8000, -10), (14000, -30)),
)
_CLUB = ((25, -12), (40, 5), (60, 6), (100, 4), (200, 0), (12000, 0), (16000, -4), (20000, -10))
_LAPTOP = ((60, -40), (120, -24), (250, -6), (400, 0), (1500, 1), (12000, 0), (18000, -8))
_TELEVISION = ((50, -28), (100, -10), (150, 0), (1000, 0), (12000, 0), (18000, -8))
_CAR = ((30, 0), (60, 6), (120, 3), (300, 0), (2000, 0), (10000, -2), (16000, -8))
SPEAKERS: dict[Speakers, Speaker] = {
    "telephone": Speaker(_TELEPHONE, mono=True),
    "kitchen_radio": Speaker(_KITCHEN, mono=True),
    "club": Speaker(_CLUB, mono=True),
    "laptop": Speaker(_LAPTOP),
    "television": Speaker(_TELEVISION, folds=True),
    "car": Speaker(_CAR, far=0.6, late_ms=1.3),
}


@lru_cache(maxsize=16)
def speaker_responses(
    name: Speakers, heard: Target, rate_hz: int, shares: Shares
) -> NDArray[np.float32]:
    """What both ears hear of each channel of a format on a loudspeaker, (channels, 2, taps)."""
    speaker = SPEAKERS[name]
    folded = downmix_matrix(heard, PUBLISHED if speaker.folds else shares)
    if speaker.mono:
        folded = np.full((2, 2), 0.5) @ folded
    frequencies, levels = np.array(speaker.points).T
    hertz = np.maximum(rfftfreq(FILTER_SIZE, 1.0 / rate_hz), 1.0)
    level_db = np.interp(np.log(hertz), np.log(frequencies), levels)
    taps = minimum_phase_taps(level_db[None])[0]
    late = round(speaker.late_ms * rate_hz / 1000.0)
    ears = np.zeros((2, 2, len(taps) + late), dtype=np.float32)  # ear, side
    for side, delay in ((0, 0), (1, late)):
        for ear in range(2):
            gain = 1.0 if ear == side else speaker.far
            ears[ear, side, delay : delay + len(taps)] = gain * taps
    result: NDArray[np.float32] = np.einsum("sc,est->cet", folded, ears).astype(np.float32)
    return result
