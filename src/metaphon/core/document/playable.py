"""Whether what is made of a strip can be played: its placement and clips against its channels."""

from collections.abc import Callable, Collection
from pathlib import Path
from typing import Any

from metaphon.core.document.channel_mapping import format_of
from metaphon.core.document.mix import PROGRAMME, Bus, Mix, Strip, Track
from metaphon.core.errors import InputError
from metaphon.core.spatial.ambisonics import order_of

ChannelsOf = Callable[[Path], int | None]


def require_one_width(track: Track, counts: Collection[int]) -> None:
    """Raise InputError where the clips of a track have more than one number of channels."""
    if len(counts) > 1:
        raise InputError(
            f"The clips of {track.name} differ in their number of channels; give each "
            "its own track."
        )


def require_placeable(strip: Strip, channels: int) -> None:
    """Raise InputError, with a way on, where a strip cannot be placed as it is.

    Parameters
    ----------
    strip : Strip
        A track or bus that enters the programme.
    channels : int
        How many channels it works with.
    """
    mode = strip.placement.mode
    if channels == 0 or mode == "none":
        return
    own = format_of(strip, channels)
    if mode == "scene" and own.order is None:
        try:
            order_of(channels)
        except InputError as error:
            raise InputError(f"{strip.name}: {error}") from None
    elif mode == "object" and own.layout is None:
        raise InputError(
            f"{strip.name} is an ambisonic scene, which has no single direction; place "
            "it as a scene."
        )
    elif mode == "object" and own.layout is not None and any(own.layout.is_lfe):
        raise InputError(
            f"{strip.name} has an LFE channel, which has no direction; place it as a bed."
        )


def refuse_unplayable(before: Mix, after: Mix, channels_of: ChannelsOf) -> None:
    """Raise InputError where an edit makes of a strip what cannot be played, and names it.

    What could not be played before may still be changed, so that it can be mended step by step.

    Parameters
    ----------
    before, after : Mix
        The mix without the edit and with it.
    channels_of : Callable
        How many channels a recording has; None where that is not known.
    """
    known = {strip.id: strip for strip in before.strips}
    for strip in after.strips:
        was = known.get(strip.id)
        if strip is was or strip.resting or (was and _shape(strip) == _shape(was)):
            continue
        try:
            _require_playable(strip, channels_of)
        except InputError:
            if was is None or was.resting or _is_playable(was, channels_of):
                raise


def _shape(strip: Strip) -> tuple[Any, ...]:
    """What decides whether a strip can be played; all else moves without being asked about."""
    clips = strip.clips if isinstance(strip, Track) else ()
    kinds = tuple(processor.kind for processor in strip.chain)
    place = strip.placement.mode, strip.placement.layout
    layout = strip.layout if isinstance(strip, Track | Bus) else ""
    return (*place, strip.resting, strip.output, layout, clips, kinds)


def _is_playable(strip: Strip, channels_of: ChannelsOf) -> bool:
    try:
        _require_playable(strip, channels_of)
    except InputError:
        return False
    return True


def _require_playable(strip: Strip, channels_of: ChannelsOf) -> None:
    channels = 0
    if isinstance(strip, Track):
        counts = {count for clip in strip.clips if (count := channels_of(clip.file))}
        require_one_width(strip, counts)
        channels = strip.channels(max(counts)) if counts else 0
    else:
        channels = format_of(strip, 0).channels
    if strip.output == PROGRAMME:
        require_placeable(strip, channels)
