"""What a mix consists of: tracks, clips, buses, groups, prints, targets.

And what they are called.
"""

from pathlib import Path
from typing import Any, Literal

from pydantic import Field

from metaphon.core.document.lanes import lanes_of, with_lane, without_lanes
from metaphon.core.document.mix import (
    LONGEST_NOTE,
    PROGRAMME,
    Bus,
    Clip,
    Group,
    Mix,
    Placement,
    Strip,
    Track,
)
from metaphon.core.document.mix_layout import layout_of_mix
from metaphon.core.document.part import Identifier, Layout, Name, Text, TimeS
from metaphon.core.document.targets import bus_format, target_named, target_to_render
from metaphon.core.edits.command import (
    Command,
    Strips,
    changed,
    counted,
    first_free,
    free_id,
    names,
    strip_of,
)
from metaphon.core.errors import InputError, Vanished
from metaphon.core.process.convolution_reverb import ConvolutionReverb
from metaphon.core.process.doubler import Doubler
from metaphon.core.process.network_reverb import NetworkReverb
from metaphon.core.spatial.layouts import LAYOUTS
from metaphon.core.spatial.recording_layout import LONGEST_LAYOUT, recorded_text

_NAME = Field(max_length=120)


def _named(name: str, what: str) -> str:
    if not name.strip():
        raise InputError(f"{what} needs a name; type one.")
    return name.strip()


class Rename(Command):
    """Name a track or bus."""

    kind: Literal["rename"] = "rename"
    strip: Identifier
    name: Name = _NAME

    def apply(self, mix: Mix) -> Mix:
        name = _named(self.name, "A track or bus")
        return changed(mix, [self.strip], lambda strip: {"name": name})

    def describe(self, mix: Mix) -> str:
        return f"Named {strip_of(mix, self.strip).name} {self.name.strip()}"


class Note(Command):
    """Write down what is to be known of a track or bus; nothing takes the note away."""

    kind: Literal["note"] = "note"
    strip: Identifier
    note: Text = Field(max_length=LONGEST_NOTE)

    def apply(self, mix: Mix) -> Mix:
        note = self.note.strip()
        return changed(mix, [self.strip], lambda strip: {"note": note})

    def describe(self, mix: Mix) -> str:
        name, words = strip_of(mix, self.strip).name, " ".join(self.note.split())
        if not words:
            return f"Took away the note on {name}"
        return f"Noted on {name}: {words[:80]}{'…' if len(words) > 80 else ''}"


class RenameMix(Command):
    """Name the mix."""

    kind: Literal["rename_mix"] = "rename_mix"
    title: Name = _NAME

    def apply(self, mix: Mix) -> Mix:
        return mix.model_copy(update={"title": _named(self.title, "A mix")})

    def describe(self, mix: Mix) -> str:
        return f"Named the mix {self.title.strip()}"


class AddTrack(Command):
    """Make a track of a recording, named after it and placed as its channels suggest."""

    kind: Literal["add_track"] = "add_track"
    name: Name = _NAME
    file: Path = Field(description="The recording, relative to the document.")
    start_s: TimeS = 0.0
    in_s: TimeS = Field(0.0, description="Where in the recording it begins.")
    mode: Literal["bed", "object", "scene", "none"] = "bed"
    layout: Layout | None = Field(None, description="Of the bed; that of the mix if not set.")
    recorded: str = Field(
        "",
        max_length=LONGEST_LAYOUT,
        description="What its channels are: a layout, or a label for each.",
    )

    def apply(self, mix: Mix) -> Mix:
        place = {"mode": self.mode, "layout": self.layout or layout_of_mix(mix)}
        name = first_free(
            self.name.strip()[:110] or "Track", {strip.name for strip in mix.strips}, " {}"
        )
        track = Track(
            id=free_id(mix, name, "track"),
            name=name,
            clips=(Clip(file=self.file, start_s=self.start_s, in_s=self.in_s),),
            placement=Placement.model_validate(place),
            layout=recorded_text(self.recorded),
        )
        return mix.model_copy(update={"tracks": (*mix.tracks, track)})

    def describe(self, mix: Mix) -> str:
        return f"Brought in {self.name}"


class AddBus(Command):
    """Make a bus; with `reverb` it carries one, ready to be sent to: by rule, or by a response."""

    kind: Literal["add_bus"] = "add_bus"
    name: Name = Field("", max_length=110)
    layout: str = Field("", description="Its width; that of the mix itself where it is empty.")
    strips: tuple[Identifier, ...] = Field((), description="What feeds it from now on.")
    reverb: bool = False
    file: Path | None = Field(
        None, description="The response of its space, relative to the document."
    )

    def apply(self, mix: Mix) -> Mix:
        width, name = bus_format(self.layout or layout_of_mix(mix)), self._name(mix)
        bed = width.name if width.name in LAYOUTS and width.channels > 1 else layout_of_mix(mix)
        fed = {strip_of(mix, strip).output for strip in self.strips} - {None}
        bus = Bus(
            id=free_id(mix, name, "bus"),
            name=name,
            layout=width.name,
            chain=self._chain(),
            output=fed.pop() if len(fed) == 1 else PROGRAMME,
            placement=Placement(mode="scene" if width.order else "bed", layout=bed),
        )
        mix = mix.model_copy(update={"buses": (*mix.buses, bus)})
        return changed(mix, self.strips, lambda strip: {"output": bus.id})

    def describe(self, mix: Mix) -> str:
        fed = f", fed by {names(mix, self.strips)}" if self.strips else ""
        return f"Made the bus {self._name(mix)}{fed}"

    def _chain(self) -> tuple[Any, ...]:
        if self.file is not None:
            return (ConvolutionReverb(file=self.file),)
        return (NetworkReverb(),) if self.reverb else ()

    def _name(self, mix: Mix) -> str:
        if self.name.strip():
            return self.name.strip()
        reverb = self.reverb or self.file is not None
        return first_free("Reverb" if reverb else "Bus", {bus.name for bus in mix.buses}, " {}")


class RemoveStrip(Command):
    """Take a track or bus out; what fed a bus goes where the bus went."""

    kind: Literal["remove_strip"] = "remove_strip"
    strip: Identifier

    def apply(self, mix: Mix) -> Mix:
        gone = strip_of(mix, self.strip)

        def change(strip: Any) -> Any:
            update: dict[str, Any] = {}
            if strip.output == gone.id:
                update["output"] = gone.output
            if any(send.bus == gone.id for send in strip.sends):
                update["sends"] = tuple(send for send in strip.sends if send.bus != gone.id)
            if getattr(strip, "print_of", None) == gone.id:
                update["print_of"] = None
            return strip.model_copy(update=update) if update else strip

        lanes = [f"{gone.id}/{path}" for path in lanes_of(mix, gone.id)]
        sends = [f"{strip.id}/sends/{gone.id}/level_db" for strip in mix.strips]
        mix = without_lanes(mix.with_strips(change), [*lanes, *sends])
        return mix.model_copy(
            update={
                "tracks": tuple(track for track in mix.tracks if track.id != gone.id),
                "buses": tuple(bus for bus in mix.buses if bus.id != gone.id),
            }
        )

    def describe(self, mix: Mix) -> str:
        return f"Removed {strip_of(mix, self.strip).name}"


class MoveStrip(Command):
    """Move a track among the tracks, or a bus among the buses."""

    kind: Literal["move_strip"] = "move_strip"
    strip: Identifier
    to: int = counted("Its place afterwards, counted from 0.")

    def apply(self, mix: Mix) -> Mix:
        strip = strip_of(mix, self.strip)
        among = "buses" if isinstance(strip, Bus) else "tracks"
        order: list[Any] = [one for one in getattr(mix, among) if one.id != strip.id]
        order.insert(self.to, strip)
        return mix.model_copy(update={among: tuple(order)})

    def describe(self, mix: Mix) -> str:
        return f"Moved {strip_of(mix, self.strip).name} to place {self.to + 1}"


class SetGroup(Command):
    """Put strips into a group of this name, made where there is none.

    An empty name takes them out.
    """

    kind: Literal["group"] = "group"
    strips: Strips
    name: Name = _NAME

    def apply(self, mix: Mix) -> Mix:
        name = self.name.strip()
        groups, group = (
            list(mix.groups),
            next((g for g in mix.groups if g.name == name), None) if name else None,
        )
        if name and group is None:
            taken = {g.id for g in groups}
            group = Group(
                id=next(f"group{n}" for n in range(1, len(taken) + 2) if f"group{n}" not in taken),
                name=name,
            )
            groups.append(group)
        mix = changed(mix, self.strips, lambda strip: {"group": group.id if group else None})
        used = {strip.group for strip in mix.strips}
        return mix.model_copy(update={"groups": tuple(g for g in groups if g.id in used)})

    def describe(self, mix: Mix) -> str:
        subject = names(mix, self.strips)
        return (
            f"{subject} in the group {self.name.strip()}"
            if self.name.strip()
            else f"{subject} in no group"
        )


class SetGroupMoves(Command):
    """Say what a group moves together."""

    kind: Literal["group_moves"] = "group_moves"
    group: Identifier
    moves: Literal["moves_gain", "moves_mute", "moves_position"]
    value: bool

    def apply(self, mix: Mix) -> Mix:
        self._group(mix)
        groups = (
            g.model_copy(update={self.moves: self.value}) if g.id == self.group else g
            for g in mix.groups
        )
        return mix.model_copy(update={"groups": tuple(groups)})

    def describe(self, mix: Mix) -> str:
        words = {
            "moves_gain": "gains",
            "moves_mute": "mutes and solos",
            "moves_position": "positions",
        }[self.moves]
        return (
            f"{self._group(mix).name} {'moves' if self.value else 'no longer moves'} "
            f"{words} together"
        )

    def _group(self, mix: Mix) -> Group:
        found = next((group for group in mix.groups if group.id == self.group), None)
        if found is None:
            raise Vanished("This group is no longer in the mix.")
        return found


class AddPrint(Command):
    """Set a rendered file on a new track with the strip's sends, feed, placement.

    Automation and group.

    With `rest` the strip goes to rest.
    """

    kind: Literal["add_print"] = "add_print"
    strip: Identifier
    file: Path
    start_s: TimeS = 0.0
    rest: bool = True
    recorded: str = Field(
        "",
        max_length=LONGEST_LAYOUT,
        description="What its channels are: a layout, or a label for each.",
    )

    def apply(self, mix: Mix) -> Mix:
        strip = strip_of(mix, self.strip)
        original = original_of(mix, strip)
        take = next_take(mix, strip)
        name = f"{original.name[:100]} print {take}"
        # the strip's chain is in the file now, so a send taken before it is taken after it
        sends = tuple(
            s.model_copy(update={"tap": "pre"}) if s.tap == "strip" else s for s in strip.sends
        )
        shared = {
            n: getattr(strip, n)
            for n in Strip.model_fields
            if n not in ("id", "name", "chain", "resting", "sends")
        }
        track = Track(
            **shared,
            id=free_id(mix, name, "track"),
            name=name,
            sends=sends,
            layout=recorded_text(self.recorded),
            print_of=original.id,
            take=take,
            clips=(Clip(file=self.file, start_s=self.start_s),),
        )
        place = (
            next((i for i, one in enumerate(mix.tracks) if one.id == strip.id), len(mix.tracks) - 1)
            + 1
        )
        mix = mix.model_copy(update={"tracks": (*mix.tracks[:place], track, *mix.tracks[place:])})
        for path, lane in lanes_of(mix, strip.id).items():
            if not path.startswith("chain/"):
                mix = with_lane(mix, lane.model_copy(update={"target": f"{track.id}/{path}"}))
        return (
            changed(mix, [strip.id], lambda s: {"resting": True, "soloed": False})
            if self.rest
            else mix
        )

    def describe(self, mix: Mix) -> str:
        return f"Printed {strip_of(mix, self.strip).name}"


class AddDouble(Command):
    """Set rendered doubles on a new track, placed and routed as their original is.

    The doubler makes none any more, so that what is heard stays; the original is untouched.
    """

    kind: Literal["add_double"] = "add_double"
    strip: Identifier
    place: int = counted("Where the doubler stands in the chain, counted from 0.")
    file: Path
    start_s: TimeS = 0.0

    def apply(self, mix: Mix) -> Mix:
        strip = strip_of(mix, self.strip)
        held = strip.chain[self.place] if self.place < len(strip.chain) else None
        if not isinstance(held, Doubler):
            raise Vanished("This doubler is no longer there; look again.")
        none = held.model_copy(update={"doubles": 0.0})
        chain = (*strip.chain[: self.place], none, *strip.chain[self.place + 1 :])
        mix = changed(mix, [strip.id], lambda s: {"chain": chain})
        mix = without_lanes(mix, [f"{strip.id}/chain/{self.place}/doubles"])
        printed = AddPrint(strip=strip.id, file=self.file, start_s=self.start_s, rest=False)
        mix, known = printed.apply(mix), {track.id for track in mix.tracks}
        name = f"{strip.name[:100]} double"
        return changed(
            mix,
            [track.id for track in mix.tracks if track.id not in known],
            lambda track: {"name": name, "print_of": None, "take": 0},
        )

    def describe(self, mix: Mix) -> str:
        return f"Printed doubles of {strip_of(mix, self.strip).name}"


def original_of(mix: Mix, strip: Strip) -> Strip:
    """What a strip was printed of; itself where it is no print."""
    print_of = strip.print_of if isinstance(strip, Track) else None
    return (mix.find_strip(print_of) if print_of else None) or strip


def next_take(mix: Mix, strip: Strip) -> int:
    """The number of a strip's next print."""
    original = original_of(mix, strip)
    return max((track.take for track in mix.tracks if track.print_of == original.id), default=0) + 1


class Wake(Command):
    """Wake a strip and rest what stands in for it.

    Its prints, or for a print its original and other takes.
    """

    kind: Literal["wake"] = "wake"
    strip: Identifier

    def apply(self, mix: Mix) -> Mix:
        original = original_of(mix, strip_of(mix, self.strip)).id
        takes = [track.id for track in mix.tracks if track.print_of == original]
        others = {original, *takes} - {self.strip} if takes else set()
        mix = changed(mix, others, lambda strip: {"resting": True, "soloed": False})
        return changed(mix, [self.strip], lambda strip: {"resting": False})

    def describe(self, mix: Mix) -> str:
        return f"Woke {strip_of(mix, self.strip).name}"


class AddTarget(Command):
    """Render the mix to one more format."""

    kind: Literal["add_target"] = "add_target"
    name: str = Field(max_length=1500)

    def apply(self, mix: Mix) -> Mix:
        name = target_to_render(self.name).name
        return (
            mix if name in mix.targets else mix.model_copy(update={"targets": (*mix.targets, name)})
        )

    def describe(self, mix: Mix) -> str:
        return f"Added the target {target_named(self.name).title}"


class RemoveTarget(Command):
    """Render the mix to a format no longer."""

    kind: Literal["remove_target"] = "remove_target"
    name: str = Field(max_length=1500)

    def apply(self, mix: Mix) -> Mix:
        return mix.model_copy(
            update={"targets": tuple(name for name in mix.targets if name != self.name)}
        )

    def describe(self, mix: Mix) -> str:
        return f"Took out the target {target_named(self.name).title}"


class Restore(Command):
    """Make the mix another document, as to go back to a state it had."""

    kind: Literal["restore"] = "restore"
    mix: Mix
    words: Name = Field("", max_length=200, description="What the history says of it.")

    def apply(self, mix: Mix) -> Mix:
        parts_held: tuple[Any, ...] = (*mix.strips, *mix.groups)
        held = {part.id: part for part in parts_held}

        def same(part: Any) -> Any:  # what is alike stays the very same
            return held[part.id] if held.get(part.id) == part else part

        parts = {
            name: tuple(same(part) for part in getattr(self.mix, name))
            for name in ("tracks", "buses", "groups")
        }
        return self.mix.model_copy(update=parts)

    def describe(self, mix: Mix) -> str:
        return self.words or "Went back to another state"
