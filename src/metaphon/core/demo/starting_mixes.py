"""Mixes to begin with: buses, returns, targets, and a test signal on its way through all of it."""

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from metaphon.core.document.breakpoints import Breakpoints
from metaphon.core.document.delivery_limits import NO_LIMITS, OBJECTS_ON_A_BED, DeliveryLimits
from metaphon.core.document.mix import Automation, Bus, Clip, Mix, Placement, Track
from metaphon.core.files.audio import AudioWriter
from metaphon.core.listen.test_signal import bursts
from metaphon.core.process.network_reverb import NetworkReverb
from metaphon.core.spatial.layouts import Layout, layout_named

SIGNAL = Path("test_signal.wav")
_TURN_S = 1.0  # for each loudspeaker
_ROUND_S = 16.0  # once round the head
_RMS = 0.1  # -20 dBFS


@dataclass(frozen=True)
class StartingMix:
    """A mix to begin with, for one kind of work.

    `make` gives its document for a title and a sample rate; its one recording is SIGNAL, whose
    samples (channels, frames) `signal` gives for a sample rate.
    """

    title: str
    why: str
    make: Callable[[str, int], Mix]
    signal: Callable[[int], NDArray[np.float32]]


def write_signal(starting: StartingMix, rate_hz: int, folder: Path) -> Path:
    """Write the test signal of a starting mix into a folder."""
    sound = starting.signal(rate_hz)
    path = folder / SIGNAL
    with AudioWriter(path, len(sound), rate_hz) as writer:
        writer.add(sound)
    return path


def in_turn(layout: Layout, rate_hz: int) -> NDArray[np.float32]:
    """Pink noise in each loudspeaker of a layout, one after the other; in an LFE below 120 Hz."""
    frames = round(_TURN_S * rate_hz)
    sound = np.zeros((layout.channels, layout.channels * frames), dtype=np.float32)
    for number, is_lfe in enumerate(layout.is_lfe):
        burst = _pink(frames, rate_hz, 20.0 if is_lfe else 100.0, 120.0 if is_lfe else 16000.0)
        sound[number, number * frames : (number + 1) * frames] = burst
    return sound


def going_on(rate_hz: int) -> NDArray[np.float32]:
    """Pink noise in bursts for one way round the head, mono."""
    frames = round(_ROUND_S * rate_hz)
    gate = bursts(frames, rate_hz).astype(np.float32)
    sound = _pink(frames, rate_hz, 100.0, 16000.0) * gate
    return np.asarray(sound[None])


def _pink(frames: int, rate_hz: int, low_hz: float, high_hz: float) -> NDArray[np.float32]:
    spectrum = np.fft.rfft(np.random.default_rng(5).standard_normal(frames))
    frequencies = np.fft.rfftfreq(frames, 1.0 / rate_hz)
    spectrum *= (frequencies >= low_hz) & (frequencies <= high_hz)
    spectrum /= np.sqrt(np.maximum(frequencies, low_hz))
    sound = np.fft.irfft(spectrum, frames)
    sound *= _RMS / np.sqrt(np.mean(sound**2))
    edge = np.clip(np.minimum(np.arange(frames), np.arange(frames)[::-1]) / (0.01 * rate_hz), 0, 1)
    return np.asarray(np.clip(sound * edge, -1.0, 1.0), dtype=np.float32)


def _bus(name: str, layout: str, *chain: NetworkReverb) -> Bus:
    mode = "scene" if layout.startswith("scene") else "bed"
    placed = layout if mode == "bed" else "0+5+0"
    placement = Placement(mode=mode, layout=placed)
    return Bus(
        id=name.lower().replace(" ", "_"),
        name=name,
        layout=layout,
        chain=chain,
        placement=placement,
    )


def _return(name: str, layout: str, decay_s: float) -> Bus:
    return _bus(name, layout, NetworkReverb(decay_s=decay_s, predelay_ms=20.0))


def _in_turn(layout: str) -> Track:
    return Track(
        id="test_signal",
        name="Test signal",
        clips=(Clip(file=SIGNAL),),
        placement=Placement(mode="bed", layout=layout),
    )


_ROUND = Track(
    id="test_signal",
    name="Test signal",
    clips=(Clip(file=SIGNAL),),
    placement=Placement(mode="object"),
)
_ROUND_LANE = Automation(
    target="test_signal/placement/azimuth_deg",
    points=Breakpoints(np.arange(5) * _ROUND_S / 4.0 * 0.999, [0.0, 90.0, 180.0, -90.0, 0.0]),
)


def _channels_of(layout: str) -> DeliveryLimits:
    title = f"{layout_named(layout).everyday}, channels only"
    return DeliveryLimits(title=title, most_objects=0, bed=layout, scenes=False)


def _mix(
    track: Track,
    buses: tuple[Bus, ...],
    targets: tuple[str, ...],
    delivery: DeliveryLimits,
    *lanes: Automation,
) -> Callable[[str, int], Mix]:
    return lambda title, rate_hz: Mix(
        title=title,
        sample_rate_hz=rate_hz,
        tracks=(track,),
        buses=buses,
        automation=lanes,
        targets=targets,
        delivery=delivery,
    )


def _speakers(layout: str) -> Callable[[int], NDArray[np.float32]]:
    return lambda rate_hz: in_turn(layout_named(layout), rate_hz)


STARTING_MIXES: dict[str, StartingMix] = {
    "stereo": StartingMix(
        "Stereo",
        "Two subgroups and a room; mono is watched as a target of its own.",
        _mix(
            _in_turn("0+2+0"),
            (_bus("Voices", "0+2+0"), _bus("Music", "0+2+0"), _return("Room", "0+2+0", 0.9)),
            ("0+2+0", "0+1+0"),
            _channels_of("0+2+0"),
        ),
        _speakers("0+2+0"),
    ),
    "surround": StartingMix(
        "5.1",
        "Beds for music and effects, voices in front, a hall; stereo beside it.",
        _mix(
            _in_turn("0+5+0"),
            (
                _bus("Voices", "0+3+0"),
                _bus("Music", "0+5+0"),
                _bus("Effects", "0+5+0"),
                _return("Hall", "0+5+0", 1.8),
            ),
            ("0+5+0", "0+2+0"),
            _channels_of("0+5+0"),
        ),
        _speakers("0+5+0"),
    ),
    "immersive": StartingMix(
        "7.1.4 with beds and returns",
        "Beds with height, a hall all round, objects as tracks are placed; all smaller formats.",
        _mix(
            _in_turn("4+7+0"),
            (
                _bus("Voices", "0+3+0"),
                _bus("Music", "4+7+0"),
                _bus("Effects", "4+7+0"),
                _return("Hall", "4+7+0", 2.2),
            ),
            ("4+7+0", "0+5+0", "0+2+0", "binaural"),
            OBJECTS_ON_A_BED,
        ),
        _speakers("4+7+0"),
    ),
    "scene": StartingMix(
        "Ambisonic scene",
        "A third-order bus to place in, heard on headphones; a test signal goes round the head.",
        _mix(
            _ROUND,
            (_bus("Scene", "scene3"), _return("Space", "0+5+0", 1.6)),
            ("scene3", "binaural", "0+2+0"),
            NO_LIMITS,
            _ROUND_LANE,
        ),
        going_on,
    ),
    "headphones": StartingMix(
        "Headphones first",
        "Objects round the head and a close room; stereo loudspeakers beside it.",
        _mix(
            _ROUND,
            (_bus("Voices", "0+2+0"), _return("Room", "0+5+0", 0.6)),
            ("binaural", "0+2+0"),
            NO_LIMITS,
            _ROUND_LANE,
        ),
        going_on,
    ),
}


def like(mix: Mix, title: str) -> Mix:
    """A mix that begins as another stands: all that was set, without its recordings and prints."""
    tracks = tuple(
        track.model_copy(update={"clips": ()}) for track in mix.tracks if track.print_of is None
    )
    kept = {strip.id for strip in (*tracks, *mix.buses)}
    lanes = tuple(lane for lane in mix.automation if lane.target.split("/", 1)[0] in kept)
    update = {"title": title, "tracks": tracks, "automation": lanes}
    return mix.model_copy(update=update)
