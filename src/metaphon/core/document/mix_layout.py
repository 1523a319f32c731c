"""The loudspeaker layout that a mix is made for."""

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
