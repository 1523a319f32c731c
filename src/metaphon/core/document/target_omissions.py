"""What of a mix is in no target, and what a target leaves out by the rules of its format."""

from dataclasses import dataclass

from metaphon.core.document.channel_mapping import format_of
from metaphon.core.document.mix import PROGRAMME, Bus, Mix, Strip
from metaphon.core.document.targets import Target, target_named
from metaphon.core.spatial.layouts import layout_named


@dataclass(frozen=True)
class Loss:
    """A strip that sounds in no target, and what to do about it in one sentence."""

    strip_id: str
    message: str


def in_no_target(mix: Mix, channels: dict[str, int]) -> list[Loss]:
    """What is heard nowhere. `channels` is how many each track's recording has."""
    found = []
    for strip in _sounding(mix, channels):
        if strip.output is None and not strip.sends:
            message = f"{strip.name} feeds nothing; route it in Flow, or put it to rest."
            found.append(Loss(strip.id, message))
        elif strip.output == PROGRAMME and strip.placement.mode == "none":
            message = f"{strip.name} is placed nowhere; place it in Field, or route it to a bus."
            found.append(Loss(strip.id, message))
    return found


def by_the_book(mix: Mix, target: Target, channels: dict[str, int]) -> list[str]:
    """What a target leaves out as its format has it, a sentence for each kind.

    Source: ITU-R BS.775-4, whose downmix equations have no LFE.
    """
    lfe, orders = [], []
    for strip in _sounding(mix, channels):
        place = strip.placement
        in_bed = strip.output == PROGRAMME and place.mode == "bed"
        has_lfe = strip.lfe.on or (in_bed and _has_lfe(strip, channels))
        if has_lfe and not _plays_lfe(target, mix):
            lfe.append(strip.name)
        if strip.output != PROGRAMME:
            continue
        if place.mode == "scene" and target.order is not None:
            own = format_of(strip, channels.get(strip.id, 0)).order or 0
            if own > target.order:
                orders.append(strip.name)
    found = [f"It has no LFE; that of {_listed(lfe)} stays out."] if lfe else []
    if orders:
        found.append(f"Kept to order {target.order}: {_listed(orders)}.")
    return found


def _sounding(mix: Mix, channels: dict[str, int]) -> list[Strip]:
    return [
        strip
        for strip in mix.strips
        if not (strip.resting or strip.muted) and (isinstance(strip, Bus) or channels.get(strip.id))
    ]


def _listed(names: list[str]) -> str:
    return " and ".join([", ".join(names[:-1]), names[-1]] if len(names) > 1 else names)


def _has_lfe(strip: Strip, channels: dict[str, int]) -> bool:
    bed = layout_named(strip.placement.layout)
    own = format_of(strip, channels.get(strip.id, 0)).layout
    return any(bed.is_lfe) and own is not None and any(own.is_lfe)


def _plays_lfe(target: Target, mix: Mix) -> bool:
    if target.order is not None:
        return False
    own = target.layout is not None and any(target.layout.is_lfe)
    return own or mix.fold_down.lfe_db is not None


def by_the_book_of_targets(mix: Mix, channels: dict[str, int]) -> dict[str, list[str]]:
    """What each of the mix's targets leaves out by the rules of its format, by its name."""
    return {name: by_the_book(mix, target_named(name), channels) for name in mix.targets}
