"""The mix itself, frozen. Its fields and their meanings are those of the mix document."""

from collections.abc import Callable
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, model_validator

from metaphon.core.process.registry import AnyProcessor
from metaphon.core.scene.targets import bus_format, target_named
from metaphon.core.spatial.layouts import layout_named

PROGRAMME = "programme"

Identifier = Annotated[str, Field(pattern=r"^[A-Za-z0-9][A-Za-z0-9_.-]{0,63}$")]
Layout = Annotated[str, AfterValidator(lambda name: layout_named(name).name)]
TargetName = Annotated[str, AfterValidator(lambda name: target_named(name).name)]
BusFormat = Annotated[str, AfterValidator(lambda name: bus_format(name).name)]
GainDb = Annotated[float, Field(ge=-120.0, le=12.0, json_schema_extra={"unit": "dB"})]


class Part(BaseModel):
    """Common ground of everything in a mix: frozen, nothing unknown, no number that is not a number."""

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)


class Clip(Part):
    """A recording set at a time. `file` is relative to the document, or absolute in memory."""

    file: Path
    start_s: float = Field(0.0, ge=0.0, le=86400.0)


class Send(Part):
    """A copy of a strip's sound to a bus, taken before its chain (strip), before its fader (pre) or after it (post).

    A source enters as its strip stands, or turned to an azimuth of the send's own.
    """

    bus: Identifier
    level_db: GainDb = -12.0
    tap: Literal["strip", "pre", "post"] = "post"
    muted: bool = False
    azimuth_deg: float | None = Field(None, ge=-180.0, le=180.0)


class Placement(Part):
    """How a source enters the immersive mix. Angles in degrees, positive to the left and upwards."""

    mode: Literal["bed", "object", "scene", "none"] = "bed"
    layout: Layout = "0+5+0"
    azimuth_deg: float = Field(0.0, ge=-180.0, le=180.0)
    elevation_deg: float = Field(0.0, ge=-90.0, le=90.0)
    distance: float = Field(1.0, ge=0.0, le=10.0)
    extent_deg: float = Field(0.0, ge=0.0, le=180.0)


class Strip(Part):
    """What tracks and buses share: a chain, a fader, sends, an output and a placement.

    A resting strip is kept but not processed. A solo-safe one sounds whatever else is soloed.
    """

    id: Identifier
    name: str = Field(max_length=120)
    resting: bool = False
    muted: bool = False
    soloed: bool = False
    solo_safe: bool = False
    group: Identifier | None = None
    gain_db: GainDb = 0.0
    chain: tuple[AnyProcessor, ...] = ()
    sends: tuple[Send, ...] = ()
    output: Identifier | None = PROGRAMME
    placement: Placement = Placement()


class Track(Strip):
    """Recordings and what is done with them."""

    clips: tuple[Clip, ...] = ()


class Bus(Strip):
    """A sum of tracks, sends and other buses, as wide as a loudspeaker layout or an ambisonic scene."""

    layout: BusFormat = "0+2+0"


class Group(Part):
    """Strips whose gains, mutes or positions are changed together, their differences kept."""

    id: Identifier
    name: str = Field(max_length=120)
    moves_gain: bool = True
    moves_mute: bool = True
    moves_position: bool = False


class Breakpoint(Part):
    t_s: float = Field(ge=0.0)
    value: float


class Automation(Part):
    """A value over time, in straight lines between breakpoints. `target` is strip/part/.../parameter."""

    target: str
    points: tuple[Breakpoint, ...] = Field(min_length=1)

    @model_validator(mode="after")
    def _in_order(self) -> "Automation":
        times = [point.t_s for point in self.points]
        if times != sorted(times):
            raise ValueError(f"the breakpoints of {self.target} are not in order of time; sort them by t_s")
        return self


class Mix(Part):
    """A whole mix."""

    format: Literal["metaphon-mix"] = "metaphon-mix"
    version: Literal[1] = 1
    title: str = Field("Untitled", min_length=1, max_length=120)
    sample_rate_hz: int = Field(48000, ge=44100, le=192000)
    tracks: tuple[Track, ...] = ()
    buses: tuple[Bus, ...] = ()
    groups: tuple[Group, ...] = ()
    automation: tuple[Automation, ...] = ()
    targets: tuple[TargetName, ...] = ("0+2+0", "0+5+0", "binaural")

    @property
    def strips(self) -> tuple[Strip, ...]:
        return (*self.tracks, *self.buses)

    def with_strips(self, change: Callable[[Any], Any]) -> "Mix":
        """The mix with every track and bus put through a change that keeps its id; nothing is checked anew."""
        return self.model_copy(
            update={"tracks": tuple(map(change, self.tracks)), "buses": tuple(map(change, self.buses))}
        )

    @model_validator(mode="after")
    def _hangs_together(self) -> "Mix":
        ids = [strip.id for strip in self.strips]
        twice = next((i for i in ids if ids.count(i) > 1), None)
        if twice:
            raise ValueError(f"two tracks or buses have the id {twice}; give one of them another")
        if PROGRAMME in ids:
            raise ValueError(f"{PROGRAMME} is the name of the mix's own output; give that track or bus another id")
        buses, groups = {bus.id for bus in self.buses}, {group.id for group in self.groups}
        for strip in self.strips:
            if strip.group not in groups and strip.group is not None:
                raise ValueError(f"{strip.name} is in the group {strip.group}, which is not in this mix")
            for aim in [send.bus for send in strip.sends] + [strip.output]:
                if aim not in buses and aim not in (PROGRAMME, None):
                    raise ValueError(f"{strip.name} feeds {aim}, which is not a bus of this mix")
        for lane in self.automation:
            automated(self, lane)
        return self


# strip parameters that may move in time, and where in the strip they are found
_LANES: dict[tuple[str, ...], str] = {
    ("gain_db",): "gain_db",
    ("placement", "azimuth_deg"): "azimuth_deg",
    ("placement", "elevation_deg"): "elevation_deg",
}


def automated(mix: Mix, lane: Automation) -> tuple[str, str, str]:
    """Say what a lane moves: the strip's id, the parameter, and for a send its bus (else empty).

    Raises ValueError in a plain sentence for a target that is not there.
    """
    strip_id, *path = lane.target.split("/")
    strip = next((s for s in mix.strips if s.id == strip_id), None)
    if strip is None:
        raise ValueError(f"the automation {lane.target} moves {strip_id}, which is not in this mix")
    if tuple(path) in _LANES:
        return strip_id, _LANES[tuple(path)], ""
    sent = {send.bus for send in strip.sends}
    if len(path) == 3 and path[0] == "sends" and path[1] in sent and path[2] == "level_db":
        return strip_id, "level_db", path[1]
    known = ", ".join(["/".join(path) for path in _LANES] + ["sends/BUS/level_db"])
    raise ValueError(f"the automation {lane.target} moves nothing that can move; use {known} of {strip_id}")


def schema() -> dict[str, Any]:
    """The JSON schema of the mix document."""
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **Mix.model_json_schema()}
