"""All rules, in the order they are told. Add one by writing its function and a row in RULES or LISTENING_RULES."""

import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from itertools import combinations

import numpy as np

from metaphon.core.checks import mends
from metaphon.core.checks.finding import Finding
from metaphon.core.checks.sound import Sound
from metaphon.core.errors import InputError
from metaphon.core.files.audio import probe
from metaphon.core.measure.alignment import Alignment, align
from metaphon.core.measure.correlation import correlation
from metaphon.core.process.basics import Basics
from metaphon.core.process.network_reverb import NetworkReverb
from metaphon.core.scene.conversion import FORMS, kept_apart_deg, other_form, place_lanes
from metaphon.core.scene.entering import format_of, lost
from metaphon.core.scene.graph import aims
from metaphon.core.scene.mix import PROGRAMME, Bus, Mix, Strip, Track, automated
from metaphon.core.scene.targets import bus_format

_ALIKE = 0.6  # likeness above which two recordings are taken for the same event
_LATE_MS = 0.1
_EXCERPT_S = 10.0
_FADED_DB = -60.0
_APART_DEG = 5.0


def feeds_nothing(mix: Mix) -> Iterator[Finding]:
    for strip in _awake(mix):
        if strip.output is None and not strip.sends:
            message = f"{strip.name} feeds nothing; give it an output or rest it."
            yield Finding("feeds_nothing", "problem", strip.id, message)


def in_no_target(mix: Mix) -> Iterator[Finding]:
    for strip in _awake(mix):
        if strip.output == PROGRAMME and strip.placement.mode == "none":
            message = f"{strip.name} goes to the mix but has no placement, so no target contains it; place it."
            yield Finding("in_no_target", "problem", strip.id, message)


def bus_without_input(mix: Mix) -> Iterator[Finding]:
    fed = {aim for strip in mix.strips for aim in aims(strip)}
    for bus in mix.buses:
        if bus.id not in fed and not bus.resting:
            message = f"Nothing feeds the bus {bus.name}; route a track to it or rest it."
            yield Finding("bus_without_input", "warning", bus.id, message)


def heard_twice(mix: Mix) -> Iterator[Finding]:
    """The dry sound reaches the mix by two ways: straight and through a bus, or through two buses."""
    names = {bus.id: bus.name for bus in mix.buses}
    dry = _dry_ways(mix)
    for strip in _awake(mix):
        ways = [
            aim for aim in dict.fromkeys([strip.output, *(s.bus for s in strip.sends if not s.muted)]) if aim in dry
        ]
        for extra in ways[1:]:
            first = "straight in the mix" if ways[0] == PROGRAMME else f"through {names[str(ways[0])]}"
            message = f"{strip.name} is heard twice: {first} and through {names[str(extra)]}; take one of the two."
            yield Finding("heard_twice", "problem", strip.id, message, str(extra))


def _dry_ways(mix: Mix) -> set[str]:
    """The programme, and every bus that passes what it gets on to it without a reverb on the way."""
    found = {PROGRAMME}
    while True:
        more = {
            bus.id
            for bus in mix.buses
            if bus.id not in found
            and not (bus.muted or bus.resting)
            and not any(isinstance(p, NetworkReverb) for p in bus.chain)
            and (bus.output in found or any(send.bus in found and not send.muted for send in bus.sends))
        }
        if not more:
            return found
        found |= more


def send_into_muted(mix: Mix) -> Iterator[Finding]:
    muted = {bus.id: bus.name for bus in mix.buses if bus.muted}
    for strip in _awake(mix):
        for send in strip.sends:
            if send.bus in muted and not send.muted and not strip.muted:
                message = f"{strip.name} sends to {muted[send.bus]}, which is muted; unmute it or take the send away."
                yield Finding("send_into_muted", "warning", strip.id, message, send.bus)


def pre_fader_left_up(mix: Mix) -> Iterator[Finding]:
    names = {bus.id: bus.name for bus in mix.buses}
    moving = {strip_id for strip_id, path in (automated(mix, lane) for lane in mix.automation) if path == ("gain_db",)}
    for strip in _awake(mix):
        if strip.gain_db > _FADED_DB or strip.id in moving or strip.muted:
            continue
        for send in strip.sends:
            if send.tap != "post" and not send.muted and send.level_db > _FADED_DB:
                message = (
                    f"{strip.name} is faded out, but its send to {names[send.bus]} is taken before the fader and "
                    "still sounds; take it after the fader."
                )
                yield Finding("pre_fader_left_up", "warning", strip.id, message, send.bus)


def dry_return(mix: Mix) -> Iterator[Finding]:
    sent = {send.bus for strip in mix.strips for send in strip.sends}
    for bus in mix.buses:
        if bus.id in sent and any(isinstance(p, NetworkReverb) and not p.wet_only for p in bus.chain):
            message = f"The reverb on {bus.name} also passes what is sent to it dry; set it to wet only."
            yield Finding("dry_return", "warning", bus.id, message)


def two_forms(mix: Mix) -> Iterator[Finding]:
    """Automation of one position as angles and in the room, where the two no longer say the same."""
    for strip in _awake(mix):
        place = strip.placement
        aside = FORMS[other_form(place.coordinates)]
        if place.mode != "object" or not any(name in aside for name in place_lanes(mix, strip.id)):
            continue
        apart = kept_apart_deg(mix, strip)
        if apart is not None and apart > _APART_DEG:
            used, kept = ("angles", "room") if place.coordinates == "sphere" else ("room", "angles")
            message = (
                f"{strip.name} has automation of its place as angles and in the room, {apart:.0f}° apart; the {used} "
                f"are heard. Convert again, or take the kept {kept} lanes away."
            )
            yield Finding("two_forms", "note", strip.id, message)


def conversion_loses(mix: Mix) -> Iterator[Finding]:
    """Buses only; what a track's recording loses is known once its file is read."""
    buses = {bus.id: bus for bus in mix.buses}
    for bus in mix.buses:
        yield from _losses(bus, 0, buses)


def _losses(strip: Strip, channels: int, buses: dict[str, Bus]) -> Iterator[Finding]:
    for aim in dict.fromkeys(aims(strip)):
        try:
            gone = lost(format_of(strip, channels), bus_format(buses[aim].layout))
        except InputError:
            continue  # what fits no layout is refused when the mix is made ready
        if gone:
            there = ", ".join(gone[:3]) + (f" and {len(gone) - 3} more" if len(gone) > 3 else "")
            message = f"{strip.name} loses {there} on its way into {buses[aim].name}; widen the bus where it is needed."
            yield Finding("conversion_loses", "note", strip.id, message, aim)


def _awake(mix: Mix) -> Iterator[Strip]:
    for strip in mix.strips:
        if not strip.resting and (isinstance(strip, Bus) or (isinstance(strip, Track) and strip.clips)):
            yield strip


def rate_mismatch(mix: Mix, sound: Sound) -> Iterator[Finding]:
    for track in mix.tracks:
        for clip in track.clips:
            rate = probe(clip.file).sample_rate_hz
            if rate != mix.sample_rate_hz:
                message = f"{clip.file.name} is at {rate} Hz, the mix at {mix.sample_rate_hz} Hz; it is converted."
                yield Finding("rate_mismatch", "note", track.id, message)


def recording_loses(mix: Mix, sound: Sound) -> Iterator[Finding]:
    buses = {bus.id: bus for bus in mix.buses}
    for track in sound.tracks:
        yield from _losses(track, sound.channels_of(track), buses)


def clips_inside(mix: Mix, sound: Sound) -> Iterator[Finding]:
    names = {strip.id: strip.name for strip in mix.strips}
    for strip_id, level in sound.levels.items():
        if level.peak_dbfs is not None and level.peak_dbfs > 0.0:
            over = math.ceil(level.peak_dbfs * 10) / 10
            message = (
                f"{names[strip_id]} reaches {level.peak_dbfs:+.1f} dBFS after its fader; nothing is cut off inside, "
                f"but printed or handed over as a stem it would be. Turn it down by {over:.1f} dB."
            )
            yield Finding("clips_inside", "warning", strip_id, message, amount=over)


def too_wide(mix: Mix, sound: Sound) -> Iterator[Finding]:
    for track in sound.tracks:
        if sound.channels_of(track) != 2:
            continue
        block = sound.read(track)
        for processor in track.chain:
            if isinstance(processor, Basics) and not processor.bypassed:
                block = processor.start(2, sound.rate_hz).process(block)
        left, right = block.astype(np.float64)
        value = correlation(np.mean(left**2), np.mean(right**2), np.mean(left * right))
        if value is not None and value < -0.1:
            message = (
                f"{track.name} is too wide: its correlation is {value:.2f}, and much of it is lost in mono; narrow it."
            )
            mid, side = np.mean((left + right) ** 2), np.mean((left - right) ** 2)
            # a side as strong as the mid is what unrelated sides have: correlation 0
            width = round(float(np.sqrt(mid / side)), 2)
            yield Finding("too_wide", "warning", track.id, message, amount=width)


def same_event(mix: Mix, sound: Sound) -> Iterator[Finding]:
    """Two recordings of one event against each other in polarity or time. Source: Knapp & Carter 1976."""
    tracks = {track.id: track for track in sound.tracks}
    for one, two in combinations(sound.of_mono, 2):
        if not sound.could_be_alike(one, two):
            continue
        found = _aligned(sound, one, two)
        if found is None or found.confidence < _ALIKE:
            continue
        first, second = _strip_settings(tracks[one]), _strip_settings(tracks[two])
        delay_ms = found.delay_ms + second[0] - first[0]
        names = f"{tracks[two].name} and {tracks[one].name}"
        if found.inverted != (first[1] != second[1]):
            message = f"{names} are the same sound with opposite polarity; invert one of them."
            yield Finding("opposed_polarity", "problem", two, message, one)
        if abs(delay_ms) >= _LATE_MS:
            late, ahead = (two, one) if delay_ms > 0 else (one, two)
            message = (
                f"{tracks[late].name} is {abs(delay_ms):.2f} ms later than {tracks[ahead].name} with the same sound; "
                f"delay {tracks[ahead].name} by as much."
            )
            yield Finding("late", "warning", late, message, ahead, abs(delay_ms))


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
    """What the chain already does: delay in ms and polarity of its first channel."""
    basics = [p for p in track.chain if isinstance(p, Basics) and not p.bypassed]
    turns = sum(p.polarity_inverted + (1 in p.inverted_channels) for p in basics)
    return sum(p.delay_ms for p in basics), bool(turns % 2)


Mend = Callable[[Mix, Finding], Mix]


@dataclass(frozen=True)
class About:
    """Why a finding matters, and what one press does about it (empty where nothing can)."""

    why: str
    mend_label: str = ""
    mend: Mend | None = None


RULES: tuple[Callable[[Mix], Iterator[Finding]], ...] = (
    feeds_nothing,
    in_no_target,
    bus_without_input,
    heard_twice,
    send_into_muted,
    pre_fader_left_up,
    dry_return,
    two_forms,
    conversion_loses,
)
LISTENING_RULES: tuple[Callable[[Mix, Sound], Iterator[Finding]], ...] = (
    rate_mismatch,
    recording_loses,
    clips_inside,
    too_wide,
    same_event,
)
ABOUT: dict[str, About] = {
    "feeds_nothing": About("Nobody will hear it.", "Feed the mix", mends.feed_the_mix),
    "in_no_target": About("It is routed and still missing from every result.", "Place as bed", mends.place_as_bed),
    "bus_without_input": About("It stands in the way and does nothing.", "Rest it", mends.put_to_rest),
    "heard_twice": About(
        "It is up to 6 dB louder than meant, and fades and mutes of the bus miss half of it.",
        "Only through the bus",
        mends.only_through_the_bus,
    ),
    "send_into_muted": About("The send does nothing while the bus is muted.", "Unmute the bus", mends.unmute_the_bus),
    "pre_fader_left_up": About(
        "A sound that should be gone is still heard.", "After the fader", mends.send_after_the_fader
    ),
    "dry_return": About("The dry sound is doubled, and its place is blurred.", "Wet only", mends.wet_only),
    "two_forms": About(
        "Who goes back to the other form hears another path.", "Drop the kept lanes", mends.only_the_used_form
    ),
    "conversion_loses": About("What those channels carry is not heard through this bus."),
    "rate_mismatch": About("A conversion is part of the sound; it should be known."),
    "clips_inside": About("A print or stem in whole numbers would be cut off.", "Turn it down", mends.quieter),
    "too_wide": About("Listeners in mono lose it.", "Narrow it", mends.narrower),
    "opposed_polarity": About("Together they cancel, most in the bass.", "Invert it", mends.inverted),
    "late": About("Together they sound hollow: a comb of cancellations.", "Delay the other", mends.other_delayed),
}


def noticed(mix: Mix) -> list[Finding]:
    """What the rules say that need no sound; quick."""
    return [finding for rule in RULES for finding in rule(mix)]


def listened(mix: Mix, sound: Sound) -> list[Finding]:
    """What the rules say that listen. Raises InputError where a recording is missing or cannot be read."""
    return [finding for rule in LISTENING_RULES for finding in rule(mix, sound)]


def check(mix: Mix) -> list[Finding]:
    """Everything the rules notice. Raises InputError where a recording is missing or cannot be read."""
    return noticed(mix) + listened(mix, Sound(mix))


def mended(mix: Mix, finding: Finding) -> Mix:
    """The mix with this finding's fault taken away. Raises InputError where no mend is known."""
    mend = ABOUT[finding.rule].mend
    if mend is None:
        raise InputError("There is no single step that mends this; change it by hand.")
    return mend(mix, finding)
