"""What of a mix a target will not contain, omissions_by_target before it is rendered."""

from metaphon.core.document.channel_mapping import format_of
from metaphon.core.document.mix import PROGRAMME, Bus, Mix, Strip
from metaphon.core.document.targets import Target, target_named
from metaphon.core.spatial.layouts import layout_named


def omissions(mix: Mix, target: Target, channels: dict[str, int]) -> list[str]:
    """One sentence for each thing that will not be in a target.

    `channels` is how many each track's recording has.
    """
    found = []
    for strip in mix.strips:
        if (
            strip.resting
            or strip.muted
            or (not isinstance(strip, Bus) and not channels.get(strip.id))
        ):
            continue
        place = strip.placement
        if strip.output != PROGRAMME:
            if strip.output is None and not strip.sends:
                found.append(f"{strip.name} feeds nothing.")
            continue
        if place.mode == "none":
            found.append(f"{strip.name} is placed nowhere.")
        elif place.mode == "bed" and _has_lfe(strip, channels) and not _plays_lfe(target):
            found.append(f"{strip.name}: its LFE.")
        elif place.mode == "scene" and target.order is not None:
            own = format_of(strip, channels.get(strip.id, 0)).order or 0
            if own > target.order:
                found.append(f"{strip.name}: its orders above {target.order}.")
    return found


def _has_lfe(strip: Strip, channels: dict[str, int]) -> bool:
    bed = layout_named(strip.placement.layout)
    own = format_of(strip, channels.get(strip.id, 0)).layout
    return any(bed.is_lfe) and own is not None and any(own.is_lfe)


def _plays_lfe(target: Target) -> bool:
    return target.layout is not None and any(target.layout.is_lfe)


def omissions_by_target(mix: Mix, channels: dict[str, int]) -> dict[str, list[str]]:
    """What each of the mix's targets leaves out, by the target's name."""
    return {name: omissions(mix, target_named(name), channels) for name in mix.targets}
