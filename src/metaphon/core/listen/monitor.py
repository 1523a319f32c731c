"""What is heard and through what: the settings of one listener. They never reach a render."""

from pathlib import Path
from typing import Any, Literal

from pydantic import Field

from metaphon.core.document.mix import TargetName
from metaphon.core.document.part import Layout, Part
from metaphon.core.document.personal import Change

NOW = "now"
Speakers = Literal["telephone", "kitchen_radio", "club", "laptop", "television", "car"]
DIM_DB = -20.0


def number(default: float, low: float, high: float, unit: str, step: float, help: str) -> Any:
    """A setting with all that a screen needs to draw it."""
    return Field(
        default, ge=low, le=high, description=help, json_schema_extra={"unit": unit, "step": step}
    )


class MonitorSource(Part):
    """What is heard.

    A target of the mix, what one strip puts into it (stem), or one track or bus alone.

    Alone it is heard as wide as it is, before its fader; `before` leaves its chain out. `kinds`
    keeps to beds or objects. `stand_in` is a test signal in the place of the strip. `source` is the
    mix as it is now, a state of it from its history, an uploaded reference, or the file of an
    earlier render. `trying` is a command, as JSON, that is carried out for this listener alone.
    `channel` is the label of the only channel that is heard of a strip alone. `alternative` is the
    programme, and `personal` what is changed of it as a listener could;
    `objects` is how many there are at most, where that is asked for.
    """

    what: Literal["mix", "stem", "alone", "before"] = "mix"
    target: TargetName = "0+2+0"
    strip: str | None = None
    channel: str = Field("", max_length=12)
    kinds: Literal["all", "beds", "objects"] = "all"
    chains: bool = True
    stand_in: Literal["", "noise", "tone", "click"] = ""
    source: str = Field(NOW, pattern=r"^(now|(revision|reference|render) \d+|difference \d+ \d+)$")
    trying: str = Field("", max_length=20_000)
    alternative: str = Field("", max_length=64)
    personal: tuple[Change, ...] = Field((), max_length=64)
    objects: int | None = Field(None, ge=1, le=128)


class Checks(Part):
    """What is done to the pair that is heard; all may be on together."""

    mono: bool = False
    side: bool = False
    left_only: bool = False
    right_only: bool = False
    swapped: bool = False
    right_inverted: bool = False


class Room(Part):
    """A simulated listening room, a box with the listener in its middle."""

    width_m: float = number(5.0, 2.0, 20.0, "m", 0.1, "Width of the room.")
    length_m: float = number(6.5, 2.0, 30.0, "m", 0.1, "Length of the room.")
    height_m: float = number(2.8, 2.0, 12.0, "m", 0.1, "Height of the room.")
    absorption: float = number(0.5, 0.05, 1.0, "", 0.01, "What part of the energy a wall takes.")
    distance_m: float = number(1.8, 0.5, 8.0, "m", 0.05, "From the listener to the loudspeakers.")


class Binaural(Part):
    """Loudspeakers heard through a head.

    `head` is `measured`, `sphere`, or the name of an uploaded set.
    """

    head: str = "measured"
    head_file: Path | None = None
    head_radius_cm: float = number(8.75, 6.0, 12.0, "cm", 0.05, "Radius of the spherical head.")
    room: Room | None = None


class VirtualPair(Part):
    """Two loudspeakers anywhere round the head, for stereo on headphones."""

    left_deg: float = number(30.0, -180.0, 180.0, "°", 1.0, "Where the left loudspeaker stands.")
    right_deg: float = number(-30.0, -180.0, 180.0, "°", 1.0, "Where the right loudspeaker stands.")
    width: float = number(1.0, 0.0, 2.0, "", 0.01, "0 mono, 1 untouched, 2 side doubled.")
    distance_m: float = number(2.0, 0.3, 10.0, "m", 0.05, "From the head to the loudspeakers.")


class Correction(Part):
    """The inverse of a pair of headphones. `response` is a CSV or SOFA file.

    `target` may be another CSV.
    """

    response: Path
    target: Path | None = None
    strength: float = number(100.0, 0.0, 100.0, "%", 1.0, "How much of the correction counts.")
    most_boost_db: float = number(8.0, 0.0, 24.0, "dB", 0.5, "No frequency is lifted by more.")
    low_hz: float = number(20.0, 10.0, 500.0, "Hz", 1.0, "Nothing is corrected below.")
    high_hz: float = number(16000.0, 1000.0, 22000.0, "Hz", 10.0, "Nothing is corrected above.")
    phase: Literal["minimum", "linear"] = "minimum"


class Loudspeaker(Part):
    """One loudspeaker of a set."""

    distance_m: float = number(2.0, 0.3, 20.0, "m", 0.01, "From the listener.")
    trim_db: float = number(0.0, -24.0, 12.0, "dB", 0.1, "Gain of its own.")
    delay_ms: float = number(0.0, 0.0, 100.0, "ms", 0.01, "Delay of its own.")
    inverted: bool = False
    output: int | None = Field(
        None, ge=1, le=64, description="The output it is wired to; its own number where empty."
    )


class LoudspeakerSet(Part):
    """A loudspeaker layout as it stands in a room; distances are made up for by delay and gain."""

    layout: Layout = "0+5+0"
    loudspeakers: tuple[Loudspeaker, ...] = ()
    aligned: bool = True
    simulated: bool = False  # heard in the simulated room that stands in for real loudspeakers
    test: Literal["off", "noise", "code"] = "off"  # a signal that walks the channels
    test_channel: int | None = None  # only this channel, counted from 1


class Monitor(Part):
    """How it is heard."""

    through: Literal["plain", "binaural", "virtual_pair", "loudspeakers", "speaker"] = "plain"
    speaker: Speakers = "telephone"
    match_db: float = number(
        0.0, -40.0, 24.0, "dB", 0.1, "To be as loud as what it is held against."
    )
    checks: Checks = Checks()
    silent: tuple[str, ...] = ()  # labels of channels that are muted
    alone: tuple[str, ...] = ()  # labels of the only channels heard, where there are any
    dimmed: bool = False
    level_db: float = number(0.0, -80.0, 0.0, "dB", 0.5, "Monitor level.")
    binaural: Binaural = Binaural()
    virtual_pair: VirtualPair = VirtualPair()
    correction: Correction | None = None
    worn: Path | None = None  # a simulated pair of headphones that is worn, to try a correction on
    loudspeakers: LoudspeakerSet = LoudspeakerSet()
