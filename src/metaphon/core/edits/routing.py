"""Where strips go: their output, their sends, how wide a bus is."""

from typing import Any, Literal

from pydantic import Field

from metaphon.core.document.lanes import without_lanes
from metaphon.core.document.mix import (
    PROGRAMME,
    Bus,
    Mix,
    Send,
    SendAzimuthDeg,
    Strip,
)
from metaphon.core.document.part import GainDb, Identifier
from metaphon.core.document.targets import bus_format
from metaphon.core.edits.command import Command, Strips, bus_of, changed, names, strip_of
from metaphon.core.errors import InputError

TAPS = {"strip": "pre-strip", "pre": "pre-fader", "post": "post-fader"}


class Route(Command):
    """Feed strips to a bus, to the mix (programme), or to nothing."""

    kind: Literal["route"] = "route"
    strips: Strips
    to: Identifier | None = Field(description="The id of a bus, `programme`, or null.")

    def apply(self, mix: Mix) -> Mix:
        if self.to not in (PROGRAMME, None):
            bus_of(mix, str(self.to))
        return changed(
            mix, [i for i in self.strips if i != self.to], lambda strip: {"output": self.to}
        )

    def describe(self, mix: Mix) -> str:
        where = (
            "nothing"
            if self.to is None
            else "the mix"
            if self.to == PROGRAMME
            else bus_of(mix, self.to).name
        )
        return f"{names(mix, self.strips)} feeds {where}"


class SetSend(Command):
    """Make sends of strips to a bus, or change them.

    What is not given stays, or is as a new send has it.
    """

    kind: Literal["send"] = "send"
    strips: Strips
    bus: Identifier
    level_db: GainDb = Field(-12.0)
    tap: Literal["strip", "pre", "post"] = "post"
    muted: bool = False
    azimuth_deg: SendAzimuthDeg = None

    def apply(self, mix: Mix) -> Mix:
        bus_of(mix, self.bus)
        given = self._given()

        def change(strip: Strip) -> dict[str, Any]:
            if any(send.bus == self.bus for send in strip.sends):
                sends = (
                    s.model_copy(update=given) if s.bus == self.bus else s for s in strip.sends
                )
                return {"sends": tuple(sends)}
            return {"sends": (*strip.sends, Send(bus=self.bus, **given))}

        return changed(mix, [i for i in self.strips if i != self.bus], change)

    def describe(self, mix: Mix) -> str:
        given = self._given()
        words = []
        if "level_db" in given:
            words.append(f"{self.level_db:.1f} dB")
        if "tap" in given:
            words.append(TAPS[self.tap])
        if "muted" in given:
            words.append("muted" if self.muted else "unmuted")
        if "azimuth_deg" in given:
            words.append(
                "where the track stands"
                if self.azimuth_deg is None
                else f"at {self.azimuth_deg:g}°"
            )
        return (
            f"{names(mix, self.strips)} to {bus_of(mix, self.bus).name} {', '.join(words)}".strip()
        )

    def _given(self) -> dict[str, Any]:
        return {
            name: getattr(self, name)
            for name in ("level_db", "tap", "muted", "azimuth_deg")
            if name in self.model_fields_set
        }


class RemoveSend(Command):
    """Take a send away, with its automation."""

    kind: Literal["remove_send"] = "remove_send"
    strips: Strips
    bus: Identifier

    def apply(self, mix: Mix) -> Mix:
        mix = changed(
            mix, self.strips, lambda s: {"sends": tuple(x for x in s.sends if x.bus != self.bus)}
        )
        return without_lanes(mix, (f"{i}/sends/{self.bus}/level_db" for i in self.strips))

    def describe(self, mix: Mix) -> str:
        return f"{names(mix, self.strips)} no longer sends to {bus_of(mix, self.bus).name}"


class SetLayout(Command):
    """Make a bus as wide as a loudspeaker layout or an ambisonic scene."""

    kind: Literal["set_layout"] = "set_layout"
    strip: Identifier
    layout: str

    def apply(self, mix: Mix) -> Mix:
        if not isinstance(strip_of(mix, self.strip), Bus):
            raise InputError(
                "A track is as wide as its recording; only a bus can be made wider or narrower."
            )
        width = bus_format(self.layout)
        return changed(mix, [self.strip], lambda bus: {"layout": width.name})

    def describe(self, mix: Mix) -> str:
        return f"{strip_of(mix, self.strip).name} is now {bus_format(self.layout).title}"
