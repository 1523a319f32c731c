"""What a mix is made for: its loudspeaker layout, and whether it has objects."""

from metaphon.core.document.mix import Mix
from metaphon.core.document.targets import target_named
from metaphon.core.spatial.layouts import LAYOUTS

_OTHERWISE = LAYOUTS["0+5+0"]


def layout_of_mix(mix: Mix) -> str:
    """Give the name of the widest loudspeaker layout among the targets of a mix.

    It is 5.1 where no target is a layout of ITU-R BS.2051.
    """
    layouts = [LAYOUTS[name] for name in mix.targets if name in LAYOUTS]
    widest = max(layouts, key=lambda layout: target_named(layout.name).channels, default=_OTHERWISE)
    return widest.name


def has_objects(mix: Mix) -> bool:
    """Say whether a mix has an object already, or is to be delivered with some."""
    placed = any(track.placement.mode == "object" for track in mix.tracks)
    return placed or bool(mix.delivery.most_objects)
