"""One strip rendered through its chain to a file, so that the file can stand in for it."""

from collections.abc import Callable
from pathlib import Path
from typing import Any

from metaphon.core.document.channel_mapping import format_of
from metaphon.core.document.mix import PROGRAMME, LfeSend, Mix, Placement, Strip, Track
from metaphon.core.document.targets import Target
from metaphon.core.engine.offline import Progress, render_to_files
from metaphon.core.engine.plan import compile
from metaphon.core.engine.render import Output
from metaphon.core.errors import InputError
from metaphon.core.files.audio import probe


def print_strip(
    mix: Mix,
    strip_id: str,
    folder: Path,
    span_s: tuple[float, float | None] = (0.0, None),
    on_progress: Callable[[Progress], None] = lambda progress: None,
) -> tuple[Path, float]:
    """Write what a strip is after its chain and before its fader, as 32-bit float.

    Parameters
    ----------
    mix, strip_id
        The mix and the strip of it.
    folder
        Where the file goes.
    span_s
        From and up to, in seconds; None is the end of the mix with its last tail.
    on_progress
        Called between blocks.

    Returns
    -------
        The file, as wide as the strip, and the speed in multiples of real time.

    Raises
    ------
    InputError
        Where there is nothing to print.
    """
    strip = next((strip for strip in mix.strips if strip.id == strip_id), None)
    if strip is None:
        raise InputError("This track is no longer in the mix; nothing was printed.")
    if isinstance(strip, Track) and not strip.clips:
        raise InputError(f"{strip.name} has no recording; there is nothing to print.")
    width = width_of(strip)
    results, speed = render_to_files(
        compile(alone(mix, strip_id, width)),
        [Output(width)],
        folder,
        span_s=span_s,
        bits="32f",
        on_progress=on_progress,
    )
    return results[0].path, speed


def width_of(strip: Strip) -> Target:
    """The format of a track's recording or of a bus."""
    return format_of(
        strip,
        strip.channels(probe(strip.clips[0].file).channels)
        if isinstance(strip, Track) and strip.clips
        else 0,
    )


def alone(mix: Mix, strip_id: str, width: Target) -> Mix:
    """The mix with this strip as its only result, as it is before its fader.

    Parameters
    ----------
    mix
        Stays as it is.
    strip_id
        A track or bus of it.
    width
        The format of the strip, in which it reaches the programme unchanged.
    """
    place = (
        Placement(mode="scene")
        if width.layout is None
        else Placement(mode="bed", layout=width.name)
    )

    quiet = {"soloed": False, "lfe": LfeSend()}

    def one(strip: Any) -> Any:
        if strip.id == strip_id:
            own = {
                "output": PROGRAMME,
                "sends": (),
                "gain_db": 0.0,
                "muted": False,
                "resting": False,
                "placement": place,
            }
            return strip.model_copy(update={**own, **quiet})
        cut = {"output": None} if strip.output == PROGRAMME else {}
        return strip.model_copy(update={**quiet, **cut})

    lanes = tuple(lane for lane in mix.automation if lane.target.split("/")[0] != strip_id)
    return mix.with_strips(one).model_copy(update={"automation": lanes})
