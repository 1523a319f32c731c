"""How far what an edit makes of some strips sounds like what they were before."""

from collections.abc import Collection
from typing import NamedTuple

import numpy as np

from metaphon.core.document.mix import Mix
from metaphon.core.document.targets import Target
from metaphon.core.engine.plan import compile
from metaphon.core.engine.render import Output, render

_SPAN_S = 10.0
_SILENCE = 1e-20


class EditNull(NamedTuple):
    """The energy of the difference below that of the sound, in dB, and what was compared."""

    difference_db: float
    target: Target


def measure_edit_null(
    before: Mix, after: Mix, tracks: Collection[str], target: Target
) -> EditNull | None:
    """Render some tracks alone without an edit and with it, and measure the difference.

    Parameters
    ----------
    before, after : Mix
        The mix without the edit and with it.
    tracks : collection of str
        The ids of the tracks that are heard in either; each counts where it is there and awake.
    target : Target
        What both are rendered to.

    Returns
    -------
    EditNull or None
        Over 10 s from where they begin to sound; None where nothing sounds there.
    """
    begins_s = min(
        (clip.start_s for one in before.tracks if one.id in tracks for clip in one.clips),
        default=0.0,
    )
    first = round(begins_s * before.sample_rate_hz)
    last = first + round(_SPAN_S * before.sample_rate_hz)
    sums = np.zeros(2)
    plans = [compile(_with_only(mix, tracks)) for mix in (before, after)]
    renders = (render(plan, [Output(target)], first, last) for plan in plans)
    for [old], [new] in zip(*renders, strict=True):
        sums += (
            np.sum(np.square(old, dtype=np.float64)),
            np.sum((old - new.astype(np.float64)) ** 2),
        )
    if sums[0] <= _SILENCE:
        return None
    return EditNull(10.0 * float(np.log10(max(sums[1] / sums[0], _SILENCE))), target)


def _with_only(mix: Mix, tracks: Collection[str]) -> Mix:
    """The mix with all other tracks at rest; buses stay as they are."""
    awake = tuple(
        one.model_copy(update={"resting": one.resting or one.id not in tracks, "muted": False})
        for one in mix.tracks
    )
    return mix.model_copy(update={"tracks": awake})
