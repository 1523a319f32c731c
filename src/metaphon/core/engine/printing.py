"""One strip rendered through its chain to a file, so that the file can stand in for it."""

from collections.abc import Callable
from pathlib import Path

from metaphon.core.document.handover import FileForm
from metaphon.core.document.mix import Mix, Track
from metaphon.core.engine.making import Run
from metaphon.core.engine.naming import Names
from metaphon.core.engine.offline import Progress, render_to_files
from metaphon.core.engine.plan import compile
from metaphon.core.engine.render import Output
from metaphon.core.engine.stems import alone, width_of
from metaphon.core.errors import InputError


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
        [Run(compile(alone(mix, strip_id, width)), [Output(width)])],
        folder,
        FileForm(bits="32f"),
        Names(mix.title),
        span_s=span_s,
        on_progress=on_progress,
    )
    return results[0].path, speed
