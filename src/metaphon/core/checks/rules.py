"""All rules, in the order they are told. Add one by writing its function and naming it in RULES."""

from collections.abc import Callable, Iterator
from itertools import combinations

import numpy as np

from metaphon.core.checks.finding import Finding
from metaphon.core.checks.sound import Sound
from metaphon.core.files.audio import probe
from metaphon.core.measure.alignment import Alignment, align
from metaphon.core.measure.correlation import correlation
from metaphon.core.process.basics import Basics
from metaphon.core.process.network_reverb import NetworkReverb
from metaphon.core.scene.graph import aims
from metaphon.core.scene.mix import PROGRAMME, Mix, Track

_ALIKE = 0.6  # likeness above which two recordings are taken for the same event
_LATE_MS = 0.1
_EXCERPT_S = 10.0


def feeds_nothing(mix: Mix) -> Iterator[Finding]:
    for strip in mix.strips:
        if isinstance(strip, Track) and (strip.resting or not strip.clips):
            continue
        if strip.output is None and not strip.sends:
            yield Finding(
                "feeds_nothing", "problem", strip.id, f"{strip.name} feeds nothing; give it an output or rest it."
            )


def in_no_target(mix: Mix) -> Iterator[Finding]:
    for strip in mix.strips:
        if strip.output == PROGRAMME and strip.placement.mode == "none":
            message = f"{strip.name} goes to the mix but has no placement, so no target contains it; place it."
            yield Finding("in_no_target", "problem", strip.id, message)


def bus_without_input(mix: Mix) -> Iterator[Finding]:
    fed = {aim for strip in mix.strips for aim in aims(strip)}
    for bus in mix.buses:
        if bus.id not in fed:
            message = f"Nothing feeds the bus {bus.name}; route a track to it or remove it."
            yield Finding("bus_without_input", "warning", bus.id, message)


def heard_twice(mix: Mix) -> Iterator[Finding]:
    """A dry copy through a send beside the main feed."""
    dry = {bus.id: bus.name for bus in mix.buses if not any(isinstance(p, NetworkReverb) for p in bus.chain)}
    for strip in mix.strips:
        for send in strip.sends:
            if strip.output == PROGRAMME and send.bus in dry:
                message = f"{strip.name} is heard twice: straight in the mix and through {dry[send.bus]}; take one of the two."
                yield Finding("heard_twice", "problem", strip.id, message)


def dry_return(mix: Mix) -> Iterator[Finding]:
    sent = {send.bus for strip in mix.strips for send in strip.sends}
    for bus in mix.buses:
        if bus.id in sent and any(isinstance(p, NetworkReverb) and not p.wet_only for p in bus.chain):
            message = f"The reverb on {bus.name} also passes what is sent to it dry; set it to wet only."
            yield Finding("dry_return", "warning", bus.id, message)


def rate_mismatch(mix: Mix) -> Iterator[Finding]:
    for track in mix.tracks:
        for clip in track.clips:
            rate = probe(clip.file).sample_rate_hz
            if rate != mix.sample_rate_hz:
                message = f"{clip.file.name} is at {rate} Hz, the mix at {mix.sample_rate_hz} Hz; it is converted."
                yield Finding("rate_mismatch", "note", track.id, message)


def too_wide(mix: Mix, sound: Sound) -> Iterator[Finding]:
    for track in sound.tracks:
        block = sound.read(track)
        if len(block) != 2:
            continue
        for processor in track.chain:
            block = processor.start(2, sound.rate_hz).process(block) if isinstance(processor, Basics) else block
        left, right = block.astype(np.float64)
        value = correlation(np.mean(left**2), np.mean(right**2), np.mean(left * right))
        if value is not None and value < -0.1:
            message = (
                f"{track.name} is too wide: its correlation is {value:.2f}, and much of it is lost in mono; narrow it."
            )
            yield Finding("too_wide", "warning", track.id, message)


def same_event(mix: Mix, sound: Sound) -> Iterator[Finding]:
    """Two recordings of one event against each other in polarity or time. Source: Knapp & Carter 1976."""
    tracks = {track.id: track for track in sound.tracks}
    for one, two in combinations(sound.of_mono, 2):
        found = _aligned(sound, one, two)
        if found is None or found.confidence < _ALIKE:
            continue
        first, second = _strip_settings(tracks[one]), _strip_settings(tracks[two])
        delay_ms = found.delay_ms + second[0] - first[0]
        names = f"{tracks[two].name} and {tracks[one].name}"
        if found.inverted != (first[1] != second[1]):
            message = f"{names} are the same sound with opposite polarity; invert one of them."
            yield Finding("opposed_polarity", "problem", two, message)
        if abs(delay_ms) >= _LATE_MS:
            late, ahead = (two, one) if delay_ms > 0 else (one, two)
            message = (
                f"{tracks[late].name} is {abs(delay_ms):.2f} ms later than {tracks[ahead].name} with the same sound; "
                f"delay {tracks[ahead].name} by as much."
            )
            yield Finding("late", "warning", late, message)


def _aligned(sound: Sound, one: str, two: str) -> Alignment | None:
    a, b = sound.of_mono[one], sound.of_mono[two]
    frames = min(len(a), len(b))
    span = min(frames, round(_EXCERPT_S * sound.rate_hz))
    if span < sound.rate_hz // 10:
        return None
    sums = np.concatenate([[0.0], np.cumsum(np.square(a[:frames], dtype=np.float64))])
    start = int(np.argmax(sums[span:] - sums[:-span]))
    return align(a[start : start + span], b[start : start + span], sound.rate_hz)


def _strip_settings(track: Track) -> tuple[float, bool]:
    """What the chain already does: delay in ms and polarity."""
    basics = [processor for processor in track.chain if isinstance(processor, Basics)]
    return sum(p.delay_ms for p in basics), bool(sum(p.polarity_inverted for p in basics) % 2)


RULES: tuple[Callable[[Mix], Iterator[Finding]], ...] = (
    feeds_nothing,
    in_no_target,
    bus_without_input,
    heard_twice,
    dry_return,
    rate_mismatch,
)
LISTENING_RULES: tuple[Callable[[Mix, Sound], Iterator[Finding]], ...] = (too_wide, same_event)


def check(mix: Mix) -> list[Finding]:
    """Everything the rules notice. Raises InputError where a recording is missing or cannot be read."""
    found = [finding for rule in RULES for finding in rule(mix)]
    sound = Sound(mix)
    return found + [finding for rule in LISTENING_RULES for finding in rule(mix, sound)]
