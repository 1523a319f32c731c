"""The three demonstration mixes."""

import shutil
from pathlib import Path
from typing import Any

import numpy as np

from metaphon.core.demo.sounds import RATE_HZ, SOUNDS
from metaphon.core.document.alternatives import Alternative, Alternatives, Variation, Varied
from metaphon.core.document.breakpoints import Breakpoints
from metaphon.core.document.marker import Marker
from metaphon.core.document.mix import Automation, Bus, Clip, Mix, Placement, Send, Track
from metaphon.core.files.audio import AudioWriter
from metaphon.core.files.mixdoc import SUFFIX, with_files, with_responses, write
from metaphon.core.process.convolution_reverb import ConvolutionReverb
from metaphon.core.process.network_reverb import NetworkReverb
from metaphon.core.spaces.shipped import SPACES
from metaphon.core.spatial.virtual_loudspeakers import BEHIND_DEG


def _clip(sound: str, start_s: float = 0.0) -> tuple[Clip, ...]:
    return (Clip(file=Path("audio") / f"{sound}.flac", start_s=start_s),)


def _object(azimuth_deg: float, elevation_deg: float = 0.0, extent_deg: float = 0.0) -> Placement:
    return Placement(
        mode="object", azimuth_deg=azimuth_deg, elevation_deg=elevation_deg, extent_deg=extent_deg
    )


def _bed(layout: str = "0+5+0", azimuth_deg: float = 0.0) -> Placement:
    return Placement(mode="bed", layout=layout, azimuth_deg=azimuth_deg)


def _lane(target: str, *points: tuple[float, float]) -> Automation:
    return Automation(target=target, points=Breakpoints(*zip(*points, strict=True)))


def _cave(level_db: float) -> tuple[Send, ...]:
    return (Send(bus="cave", level_db=level_db),)


_CAVE = Bus(
    id="cave",
    name="Cave",
    gain_db=-8.0,
    layout="0+5+0",
    chain=(NetworkReverb(decay_s=2.6, treble_decay=0.4, size=1.3, predelay_ms=28.0),),
    placement=_bed(),
)

# The wet side of the harbour, from where the audience does not look
_SHED = Bus(
    id="shed",
    name="Shed",
    gain_db=-6.0,
    layout="0+2+0",
    chain=(
        ConvolutionReverb(
            file=next(one for one in SPACES if one.key == "boat_shed").file("ambisonic", "far"),
            predelay_ms=12.0,
            low_cut_hz=120.0,
        ),
    ),
    placement=Placement(mode="object", azimuth_deg=180.0, elevation_deg=45.0, pair_deg=BEHIND_DEG),
)


# what a listener may do with a narrator
_NARRATOR: dict[str, Any] = {
    "choice": "Narrator",
    "least_db": -12.0,
    "most_db": 9.0,
    "azimuth_deg": 30.0,
}

# The faults, on purpose: the far microphone is late and upside down, the hand-bells are too wide
# and are
# heard twice (straight and through Instruments), and nothing feeds the bus Boats.
LAMP = Mix(
    title="The Lamp at Skerrow",
    sample_rate_hz=RATE_HZ,
    tracks=(
        Track(
            id="narrator_en",
            name="Narrator (en)",
            colour="yellow",
            gain_db=-1.0,
            clips=_clip("narrator_en", 17.0),
            sends=_cave(-24.0),
            placement=_object(0.0, 5.0),
        ),
        Track(
            id="narrator_nb",
            name="Narrator (nb)",
            colour="yellow",
            note="The same text; for the programme in Norwegian.",
            muted=True,
            gain_db=-1.0,
            clips=_clip("narrator_nb", 17.0),
            sends=_cave(-24.0),
            placement=_object(0.0, 5.0),
        ),
        Track(
            id="buoy_near",
            name="Bell buoy near",
            colour="cyan",
            gain_db=-9.0,
            clips=_clip("buoy_near"),
            output="buoy",
            placement=_bed(azimuth_deg=25.0),
        ),
        Track(
            id="buoy_far",
            name="Bell buoy far",
            colour="cyan",
            gain_db=-10.0,
            clips=_clip("buoy_far"),
            output="buoy",
            placement=_bed(azimuth_deg=25.0),
        ),
        Track(
            id="harmonium",
            name="Harmonium",
            colour="purple",
            gain_db=-10.0,
            clips=_clip("harmonium"),
            output="instruments",
            sends=_cave(-14.0),
        ),
        Track(
            id="hand_bells",
            name="Hand-bells",
            colour="purple",
            gain_db=-9.0,
            clips=_clip("hand_bells"),
            sends=(Send(bus="instruments", level_db=0.0), Send(bus="cave", level_db=-10.0)),
            placement=_bed(),
        ),
        Track(
            id="drum_one",
            name="Low drum one",
            colour="purple",
            gain_db=-7.0,
            clips=_clip("drum_one"),
            output="instruments",
            sends=_cave(-16.0),
            placement=_bed(azimuth_deg=20.0),
        ),
        Track(
            id="drum_two",
            name="Low drum two",
            colour="purple",
            gain_db=-7.0,
            clips=_clip("drum_two"),
            output="instruments",
            sends=_cave(-16.0),
            placement=_bed(azimuth_deg=-20.0),
        ),
        Track(
            id="gull",
            name="Gull",
            colour="green",
            gain_db=-14.0,
            clips=_clip("gull", 2.0),
            sends=(*_cave(-12.0), Send(bus="shed", level_db=-14.0)),
            placement=_object(70.0, 25.0),
        ),
        Track(
            id="rowing_boat",
            name="Rowing boat",
            colour="green",
            gain_db=-11.0,
            clips=_clip("rowing_boat", 12.0),
            placement=_object(-110.0, -10.0, 12.0),
        ),
        Track(
            id="horn",
            name="Ship's horn",
            gain_db=-15.0,
            clips=_clip("horn"),
            sends=(*_cave(-6.0), Send(bus="shed", level_db=-10.0)),
            placement=_object(120.0, 8.0),
        ),
        Track(
            id="rain",
            name="Rain",
            colour="blue",
            gain_db=-14.0,
            clips=_clip("rain"),
            placement=_bed(),
        ),
        Track(
            id="sea",
            name="Sea",
            colour="blue",
            gain_db=-10.0,
            clips=_clip("sea"),
            placement=Placement(mode="scene"),
        ),
        Track(
            id="choir_hum",
            name="Choir hum",
            gain_db=-14.0,
            clips=_clip("choir_hum"),
            sends=_cave(-8.0),
            placement=_object(-150.0, 20.0, 40.0),
        ),
    ),
    buses=(
        Bus(id="buoy", name="Buoy", layout="0+5+0", sends=_cave(-14.0), placement=_bed()),
        Bus(id="instruments", name="Instruments", layout="0+5+0", gain_db=-1.0, placement=_bed()),
        Bus(id="boats", name="Boats", placement=_bed()),
        _CAVE,
        _SHED,
    ),
    automation=(
        _lane(
            "gull/placement/azimuth_deg", (4.0, 70.0), (14.0, 10.0), (22.0, -50.0), (30.0, -95.0)
        ),
        _lane(
            "gull/placement/elevation_deg", (4.0, 25.0), (14.0, 55.0), (22.0, 45.0), (30.0, 20.0)
        ),
        _lane("rowing_boat/placement/azimuth_deg", (12.0, -110.0), (50.0, -20.0)),
    ),
    targets=("0+2+0", "0+5+0", "binaural"),
    markers=(
        Marker(id="gull", at_s=4.0, name="The gull crosses"),
        Marker(id="boat", at_s=12.0, name="The boat puts out"),
        Marker(id="landing", at_s=50.0, name="Landing"),
    ),
    alternatives=Alternatives(
        language="en",
        varied=(
            Varied(
                strip="narrator_en",
                choice="Narrator",
                least_db=-12.0,
                most_db=9.0,
                azimuth_deg=30.0,
            ),
            Varied(
                strip="narrator_nb",
                choice="Narrator",
                least_db=-12.0,
                most_db=9.0,
                azimuth_deg=30.0,
            ),
            Varied(strip="gull", switched=True, least_db=-20.0),
        ),
        programmes=(
            Alternative(
                id="norsk",
                name="Norsk",
                language="nb",
                variations=(
                    Variation(strip="narrator_en", heard="silent"),
                    Variation(strip="narrator_nb", heard="heard"),
                ),
            ),
            Alternative(
                id="narrator_louder",
                name="Narrator louder",
                language="en",
                variations=(Variation(strip="narrator_en", gain_db=5.0),),
            ),
            Alternative(
                id="no_narrator",
                name="No narrator",
                variations=(Variation(strip="narrator_en", heard="silent"),),
            ),
        ),
    ),
)

QUIET = Mix(
    title="Quiet Water",
    sample_rate_hz=RATE_HZ,
    tracks=(
        Track(
            id="harmonium",
            name="Harmonium",
            gain_db=-9.0,
            clips=_clip("harmonium"),
            sends=_cave(-14.0),
        ),
        Track(
            id="horn",
            name="Ship's horn",
            gain_db=-14.0,
            clips=_clip("horn"),
            sends=_cave(-8.0),
            placement=_object(120.0, 8.0),
        ),
        Track(
            id="gull",
            name="Gull",
            gain_db=-14.0,
            clips=_clip("gull", 2.0),
            placement=_object(40.0, 35.0),
        ),
        Track(
            id="sea",
            name="Sea",
            gain_db=-8.0,
            clips=_clip("sea"),
            placement=Placement(mode="scene"),
        ),
    ),
    buses=(_CAVE,),
)

EMPTY = Mix(title="Empty Harbour", sample_rate_hz=RATE_HZ)

MIXES = (LAMP, QUIET, EMPTY)


def write_demo(folder: Path) -> list[Path]:
    """Write the demo mixes as documents, their audio in `audio/` beside them.

    Gives the documents' paths.
    """
    audio = folder / "audio"
    audio.mkdir(parents=True, exist_ok=True)
    responses = {
        one.file
        for mix in MIXES
        for bus in mix.buses
        for one in bus.chain
        if isinstance(one, ConvolutionReverb) and one.file
    }
    for response in responses:
        shutil.copyfile(response, audio / response.name)
    for name, make in SOUNDS.items():
        sound = make().astype(np.float32)
        with AudioWriter(audio / f"{name}.flac", len(sound), RATE_HZ, "24", "flac") as writer:
            writer.add(sound)
    documents = []
    for mix in MIXES:
        path = folder / (mix.title.lower().replace(" ", "-") + SUFFIX)
        there = with_files(mix, lambda file: folder.absolute() / file)
        write(with_responses(there, lambda file: audio.absolute() / file.name), path)
        documents.append(path)
    return documents
