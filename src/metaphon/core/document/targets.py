"""The output formats a mix can be rendered to."""

import re
from dataclasses import dataclass

from metaphon.core.errors import InputError
from metaphon.core.spatial.ambisonics import MAX_ORDER, channels_of
from metaphon.core.spatial.layouts import LAYOUTS, OWN, Layout, layout_named, layout_to_play_on


@dataclass(frozen=True)
class Target:
    """One output format: loudspeakers (layout), headphones, or an ambisonic scene (order)."""

    name: str
    title: str
    channels: int
    layout: Layout | None = None
    order: int | None = None
    names: tuple[str, ...] = ()

    @property
    def channel_labels(self) -> tuple[str, ...]:
        """What each channel is called."""
        if self.names:
            return self.names
        if self.layout:
            return self.layout.labels
        return (
            ("left ear", "right ear")
            if self.order is None
            else tuple(f"ACN {i}" for i in range(self.channels))
        )

    @property
    def has_heights(self) -> bool:
        """Whether sound in it can come from above or below the ears."""
        if self.layout is None:
            return self.order is not None
        return any(self.layout.angles_deg[one][1] for one in self.layout.main)

    @property
    def word(self) -> str:
        """What it is called in a file name."""
        return (
            self.layout.everyday.replace(" ", "_")
            if self.layout and self.name.startswith(OWN)
            else self.name
        )

    @property
    def metering_layout(self) -> Layout | None:
        """The layout whose loudness weights hold.

        Two ears count as a stereo pair, a scene has none.
        """
        return LAYOUTS["0+2+0"] if self.name == "binaural" else self.layout


# the widths a bus is offered in; a layout of one's own will do as well
BUS_FORMATS = (*LAYOUTS, *(f"scene{order}" for order in range(1, MAX_ORDER + 1)))
OFFERED = (
    "0+2+0",
    "0+5+0",
    "binaural",
    "0+1+0",
    "0+7+0",
    "4+5+0",
    "4+7+0",
    "9+10+3",
    "scene1",
    "scene3",
)
FURTHER = tuple(name for name in BUS_FORMATS if name not in OFFERED)


def target_to_render(name: str) -> Target:
    """Read a target's name as `target_named` does; InputError too for an LFE alone."""
    target = target_named(name)
    if target.layout:
        layout_to_play_on(target.layout.name)
    return target


def target_named(name: str) -> Target:
    """Read a target's name: a BS.2051 layout, `binaural` or `sceneN`.

    Raises InputError for any other.
    """
    if name in LAYOUTS or name.startswith(OWN):
        layout = layout_named(name)
        return Target(name, layout.title, layout.channels, layout=layout)
    if name == "binaural":
        return Target(name, "Binaural", 2)
    match = re.fullmatch(r"scene(\d)", name)
    if match and 1 <= int(match[1]) <= MAX_ORDER:
        order = int(match[1])
        return Target(name, f"Ambisonic {order}", channels_of(order), order=order)
    raise InputError(
        f"There is no target {name!r}; use binaural, scene1 to scene{MAX_ORDER}, "
        f"or one of {', '.join(LAYOUTS)}."
    )


def bus_format(name: str) -> Target:
    """The format of a bus: a loudspeaker layout or a scene. Raises InputError for any other."""
    target = target_named(name)
    if target.layout is None and target.order is None:
        raise InputError(
            f"A bus cannot be {target.title.lower()}; give it a loudspeaker layout or "
            "an ambisonic order."
        )
    return target
