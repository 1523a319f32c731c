"""The mix itself, frozen. Its fields and their meanings are those of the mix document."""

from collections.abc import Callable
from typing import Annotated, Any, Literal, get_args

from pydantic import AfterValidator, Field, model_validator

from metaphon.core.document.alternatives import NONE, Alternatives
from metaphon.core.document.breakpoints import Breakpoints
from metaphon.core.document.delivery_limits import NO_LIMITS, DeliveryLimits
from metaphon.core.document.fold_down import FoldDown
from metaphon.core.document.marker import MOST_MARKERS, Marker
from metaphon.core.document.part import LATEST_S, GainDb, Identifier, Layout, Name, Part, Text
from metaphon.core.document.targets import bus_format, target_to_render
from metaphon.core.document.value_paths import lane_path
from metaphon.core.errors import InputError
from metaphon.core.kept_form import NamedFile
from metaphon.core.measure.timecode import RATES, read_timecode
from metaphon.core.process.processor import choice, parameter, switch
from metaphon.core.process.registry import AnyProcessor
from metaphon.core.spatial.decoding import Decoder, Weighting
from metaphon.core.spatial.recording_layout import LONGEST_LAYOUT, recorded_as, recorded_text
from metaphon.core.spatial.zones import Zone

PROGRAMME = "programme"

TargetName = Annotated[str, AfterValidator(lambda name: target_to_render(name).name)]
BusFormat = Annotated[str, AfterValidator(lambda name: bus_format(name).name)]
FrameRateName = Literal["23.976", "24", "25", "29.97", "29.97drop", "30"]
SendAzimuthDeg = Annotated[
    float | None,
    Field(
        ge=-180.0,
        le=180.0,
        description="Where it enters; where the source stands if empty.",
        json_schema_extra={"unit": "°", "step": 0.5, "moves": False},
    ),
]


class Clip(Part):
    """A part of a recording set at a time.

    `file` is relative to the document, or absolute in memory. `length_s` is how long it is heard;
    None up to the end of the recording. Fades are of equal power.
    """

    file: NamedFile
    start_s: float = parameter(
        0.0, 0.0, LATEST_S, unit="s", step=0.001, moves=False, help="When it begins in the mix."
    )
    in_s: float = parameter(
        0.0,
        0.0,
        LATEST_S,
        unit="s",
        step=0.001,
        moves=False,
        help="Where in the recording it begins.",
    )
    length_s: float | None = Field(
        None,
        ge=0.0,
        le=LATEST_S,
        description="How long it is heard; up to the end of the recording where it is not set.",
        json_schema_extra={"unit": "s", "step": 0.001, "moves": False},
    )
    gain_db: float = parameter(
        0.0, -60.0, 24.0, unit="dB", step=0.1, moves=False, help="Its level before the chain."
    )
    fade_in_s: float = parameter(
        0.0,
        0.0,
        600.0,
        unit="s",
        step=0.001,
        moves=False,
        help="It rises from silence in this time.",
    )
    fade_out_s: float = parameter(
        0.0, 0.0, 600.0, unit="s", step=0.001, moves=False, help="It falls to silence in this time."
    )


def heard_s(in_s: float, length_s: float | None, recorded_s: float) -> float:
    """How long a clip is heard, whose recording is so long: no longer than there is of it."""
    left_s = max(recorded_s - in_s, 0.0)
    return left_s if length_s is None else min(length_s, left_s)


class Send(Part):
    """A copy of a strip's sound to a bus, taken before its chain (strip).

    Before its fader (pre) or after it (post).

    A source enters as its strip stands, or turned to an azimuth of the send's own.
    """

    bus: Identifier
    level_db: GainDb = Field(-12.0, description="How much of it is sent to the bus.")
    tap: Literal["strip", "pre", "post"] = Field(
        "post", description="Taken before its chain, before its fader, or after it."
    )
    muted: bool = False
    azimuth_deg: SendAzimuthDeg = None


class LfeSend(Part):
    """A copy of a strip's sound to the LFE of the programme, after its fader, through a low-pass.

    A wide source enters as the sum of its channels without its own LFE, a scene by its omni.
    """

    on: bool = switch(False, help="Send it to the LFE.")
    level_db: GainDb = Field(0.0, description="How much of it is sent to the LFE.")
    corner_hz: float = parameter(
        120.0,
        20.0,
        250.0,
        unit="Hz",
        step=1.0,
        scale="log",
        help="Corner of the low-pass, 3 dB down; 24 dB per octave.",
    )


class Placement(Part):
    """How a source enters the immersive mix. Angles in degrees, positive to the left and upwards.

    There is one position, said as angles (`sphere`) or as a place in a cube-shaped room (`cube`);
    what is said in the other form is kept and not used. Distance 1 is the loudspeaker sphere;
    nearer, a source grows wider. `reference` names the layout whose loudspeakers stand in the
    corners of the room.
    """

    mode: Literal["bed", "object", "scene", "none"] = "bed"
    layout: Layout = "0+5+0"
    coordinates: Literal["sphere", "cube"] = choice(
        "sphere", help="Which form of the position is used."
    )
    reference: Literal["4+5+0", "4+7+0", "9+10+3"] = choice(
        "4+5+0", help="The layout that fits the room."
    )
    azimuth_deg: float = parameter(
        0.0, -180.0, 180.0, unit="°", step=0.5, help="Round the listener, left positive."
    )
    elevation_deg: float = parameter(
        0.0, -90.0, 90.0, unit="°", step=0.5, help="Above the ears, below negative."
    )
    distance: float = parameter(
        1.0, 0.0, 10.0, unit="", step=0.01, help="1 on the loudspeaker sphere, 0 in the head."
    )
    extent_deg: float = parameter(0.0, 0.0, 360.0, unit="°", step=1.0, help="Width of the source.")
    extent_height_deg: float | None = Field(
        None,
        ge=0.0,
        le=360.0,
        description="Height of the source; as high as wide where empty.",
        json_schema_extra={"unit": "°", "step": 1.0},
    )
    extent_depth: float = parameter(
        0.0, 0.0, 1.0, unit="", step=0.01, help="How far it reaches towards the listener."
    )
    x: float = parameter(0.0, -1.0, 1.0, unit="", step=0.01, help="To the right of the room.")
    y: float = parameter(1.0, -1.0, 1.0, unit="", step=0.01, help="To the front of the room.")
    z: float = parameter(0.0, -1.0, 1.0, unit="", step=0.01, help="Up in the room.")
    extent_x: float = parameter(0.0, 0.0, 1.0, unit="", step=0.01, help="Size from left to right.")
    extent_y: float = parameter(0.0, 0.0, 1.0, unit="", step=0.01, help="Size from rear to front.")
    extent_z: float = parameter(
        0.0, 0.0, 1.0, unit="", step=0.01, help="Size from floor to ceiling."
    )
    pair_deg: float = parameter(
        60.0,
        -360.0,
        360.0,
        unit="°",
        step=1.0,
        help="Angle between the sides of a stereo object; below 0 they change places.",
    )
    divergence: float = parameter(
        0.0, 0.0, 1.0, unit="", step=0.01, help="0 in its place, 1 from either side of it."
    )
    divergence_range_deg: float = parameter(
        45.0, 0.0, 180.0, unit="°", step=1.0, moves=False, help="How far aside it is spread."
    )
    diffuseness: float = parameter(
        0.0, 0.0, 1.0, unit="", step=0.01, help="How much of it has lost its direction."
    )
    importance: int = Field(
        10,
        ge=0,
        le=10,
        description="10 is kept longest where too many objects are in the way.",
        json_schema_extra={"unit": "", "step": 1.0},
    )
    snap: bool = switch(False, help="Play it from the nearest loudspeaker alone.")
    on_sphere: bool = switch(False, help="Keep it on the loudspeaker sphere whatever its distance.")
    excluded: tuple[Zone, ...] = Field((), description="Where no loudspeaker plays it.")
    level_db_per_doubling: float = parameter(
        0.0,
        0.0,
        12.0,
        unit="dB",
        step=0.5,
        moves=False,
        help="How much quieter at twice the distance; 6 in free field.",
    )
    air: bool = switch(False, help="Let the air take treble with distance.")
    travel: bool = switch(
        False, help="Delay it by the way it travels; what moves is bent in pitch."
    )
    sphere_m: float = parameter(
        2.0, 0.5, 50.0, unit="m", step=0.1, moves=False, help="How far distance 1 is, in metres."
    )
    sends_too: bool = switch(
        False, help="Distance changes what is sent to reverbs too; else they keep their level."
    )
    reflections: bool = switch(
        False, help="Let the walls of a room reflect it, each from its own direction."
    )
    reflections_db: float = parameter(
        -6.0, -60.0, 12.0, unit="dB", step=0.5, help="Level of its first reflections."
    )
    room_width_m: float = parameter(
        8.0, 2.0, 80.0, unit="m", step=0.1, moves=False, help="Width of the room round it."
    )
    room_depth_m: float = parameter(
        10.0, 2.0, 120.0, unit="m", step=0.1, moves=False, help="Depth of the room round it."
    )
    room_height_m: float = parameter(
        4.0, 2.0, 40.0, unit="m", step=0.1, moves=False, help="Height of the room round it."
    )
    room_absorption: float = parameter(
        0.3, 0.0, 0.95, unit="", step=0.01, moves=False, help="What its walls take of the energy."
    )
    roll_deg: float = parameter(
        0.0, -180.0, 180.0, unit="°", step=1.0, help="Turn a scene about its front."
    )
    decoder: Decoder = choice("allrad", help="How a scene is played on loudspeakers.")
    weighting: Weighting = choice("max_re", help="How its orders are weighted.")
    locked: bool = switch(False, help="Leave it where it is.")


def _recorded(text: str) -> str:
    """The layout of a recording as it is written; raises ValueError for one that is not known."""
    try:
        return recorded_text(text)
    except InputError as error:
        raise ValueError(str(error).rstrip(".")) from None


Colour = Literal["none", "pink", "red", "orange", "yellow", "green", "cyan", "blue", "purple"]
COLOURS: tuple[Colour, ...] = get_args(Colour)
LONGEST_NOTE = 2000


class Strip(Part):
    """What tracks and buses share: a chain, a fader, sends, an output and a placement.

    A resting strip is kept but not processed. A solo-safe one sounds whatever else is soloed.
    """

    id: Identifier
    name: Name = Field(max_length=120)
    colour: Colour = Field("none", description="How people find it again, in every view.")
    note: Text = Field("", max_length=LONGEST_NOTE, description="What people write about it.")
    resting: bool = False
    muted: bool = False
    soloed: bool = False
    solo_safe: bool = False
    group: Identifier | None = None
    gain_db: GainDb = Field(0.0, description="Level of its fader, after its chain.")
    chain: tuple[AnyProcessor, ...] = ()
    sends: tuple[Send, ...] = ()
    lfe: LfeSend = LfeSend()
    output: Identifier | None = PROGRAMME
    placement: Placement = Placement()

    @property
    def has_reverb(self) -> bool:
        """Whether a reverb is at work in its chain."""
        return any(one.is_reverb and not one.bypassed for one in self.chain)


class Track(Strip):
    """Recordings and what is done with them.

    A print says of what it was made, and which take it is.
    """

    clips: tuple[Clip, ...] = ()
    layout: Annotated[str, AfterValidator(_recorded)] = Field(
        "",
        max_length=LONGEST_LAYOUT,
        description="What the channels of its recordings are: the name of a layout, or a label for "
        "each channel in their order, - for one that is not used; by their number where empty.",
    )
    print_of: Identifier | None = None
    take: int = Field(0, ge=0, le=32767)

    def channels(self, recorded: int) -> int:
        """How many it works with, by how many its recording has.

        A mono one is on both sides, each 3 dB softer, where a processor makes two out of it.
        """
        used = self.channels_used(recorded)
        both = used == 1 and any(one.needs_two_sides for one in self.chain)
        return 2 if both else used

    def channels_used(self, recorded: int) -> int:
        """How many channels of its recording it plays."""
        told = recorded_as(self.layout) if self.layout else None
        return len(told.order) if told and told.recorded == recorded else recorded


class Bus(Strip):
    """A sum of tracks, sends and other buses, as wide as a loudspeaker layout or a scene."""

    layout: BusFormat = "0+2+0"


class Group(Part):
    """Strips whose gains, mutes or positions are changed together, their differences kept."""

    id: Identifier
    name: Name = Field(max_length=120)
    moves_gain: bool = True
    moves_mute: bool = True
    moves_position: bool = False


class Automation(Part):
    """A value over time.

    `target` is strip/part/.../parameter; azimuth goes the shorter way round.
    """

    target: str
    points: Breakpoints


class Mix(Part):
    """A whole mix."""

    format: Literal["metaphon-mix"] = "metaphon-mix"
    version: Literal[1] = 1
    title: Name = Field("Untitled", min_length=1, max_length=120)
    sample_rate_hz: int = Field(48000, ge=44100, le=192000)
    tempo_bpm: float = parameter(
        120.0, 20.0, 300.0, unit="BPM", step=0.1, moves=False, help="Quarters a minute."
    )
    start_timecode: str = Field(
        "00:00:00:00", max_length=11, description="The timecode of its first frame."
    )
    frame_rate: FrameRateName = "25"
    tracks: tuple[Track, ...] = ()
    buses: tuple[Bus, ...] = ()
    groups: tuple[Group, ...] = ()
    automation: tuple[Automation, ...] = ()
    targets: tuple[TargetName, ...] = ("0+2+0", "0+5+0", "binaural")
    fold_down: FoldDown = FoldDown()
    delivery: DeliveryLimits = NO_LIMITS
    alternatives: Alternatives = NONE
    markers: tuple[Marker, ...] = Field((), max_length=MOST_MARKERS)

    @property
    def strips(self) -> tuple[Strip, ...]:
        """All tracks, then all buses."""
        return (*self.tracks, *self.buses)

    def find_strip(self, strip_id: str) -> Strip | None:
        """The track or bus of an id; None where it is not there."""
        return next((strip for strip in self.strips if strip.id == strip_id), None)

    def with_strips(self, change: Callable[[Any], Any]) -> "Mix":
        """The mix with every track and bus put through a change that keeps its id.

        Nothing is checked anew.
        """
        return self.model_copy(
            update={
                "tracks": tuple(map(change, self.tracks)),
                "buses": tuple(map(change, self.buses)),
            }
        )

    def with_strip(self, new: "Strip") -> "Mix":
        """The mix with a track or bus in place of the one of its id; nothing is checked anew."""
        return self.with_strips(lambda one: new if one.id == new.id else one)

    @model_validator(mode="after")
    def _hangs_together(self) -> "Mix":
        hangs_together(self)
        read_timecode(self.start_timecode, RATES[self.frame_rate])
        return self


def hangs_together(mix: Mix) -> None:
    """See that ids are taken once and everything referred to is there.

    Raises ValueError in a plain sentence where it is not so.
    """
    seen: set[str] = set()
    for strip in mix.strips:
        if strip.id in seen:
            raise ValueError(
                f"two tracks or buses have the id {strip.id}; give one of them another"
            )
        seen.add(strip.id)
    if PROGRAMME in seen:
        raise ValueError(
            f"{PROGRAMME} is the name of the mix's own output; give that track or bus another id"
        )
    buses, groups = {bus.id for bus in mix.buses}, {group.id for group in mix.groups}
    for strip in mix.strips:
        if strip.group is not None and strip.group not in groups:
            raise ValueError(
                f"{strip.name} is in the group {strip.group}, which is not in this mix"
            )
        for bus in [send.bus for send in strip.sends] + [strip.output]:
            if bus not in buses and bus not in (PROGRAMME, None):
                raise ValueError(f"{strip.name} feeds {bus}, which is not a bus of this mix")
    for track in mix.tracks:
        if track.print_of is not None and track.print_of not in seen:
            raise ValueError(
                f"{track.name} is a print of {track.print_of}, which is not in this mix"
            )
    if len({marker.id for marker in mix.markers}) < len(mix.markers):
        raise ValueError("two markers have one id; give one of them another")
    strips = {strip.id: strip for strip in mix.strips}
    for lane in mix.automation:
        lane_path(lane.target, strips)


def schema() -> dict[str, Any]:
    """The JSON schema of the mix document."""
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **Mix.model_json_schema()}
