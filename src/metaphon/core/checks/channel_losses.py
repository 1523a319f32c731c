"""Channels of a strip that do not arrive in a bus it feeds."""

from collections.abc import Iterator

from metaphon.core.checks.finding import Finding
from metaphon.core.document.channel_mapping import format_of, lost_channels
from metaphon.core.document.graph import destinations
from metaphon.core.document.mix import Bus, Strip
from metaphon.core.document.targets import bus_format
from metaphon.core.errors import InputError
from metaphon.core.spatial.downmix import Shares


def losses(strip: Strip, channels: int, buses: dict[str, Bus], shares: Shares) -> Iterator[Finding]:
    """What of a strip with so many channels does not arrive in the buses it feeds."""
    for bus in dict.fromkeys(destinations(strip)):
        try:
            gone = lost_channels(format_of(strip, channels), bus_format(buses[bus].layout), shares)
        except InputError:
            continue  # what fits no layout is refused when the mix is made ready
        if gone:
            there = ", ".join(gone[:3]) + (f" and {len(gone) - 3} more" if len(gone) > 3 else "")
            message = (
                f"{strip.name} loses {there} on its way into {buses[bus].name}; widen the "
                "bus where it is needed."
            )
            yield Finding("conversion_loses", "note", strip.id, message, bus)
