"""A bed made into objects, and objects made into a scene."""

from typing import Literal

from pydantic import Field

from metaphon.core.document.lanes import lanes_of, with_lane
from metaphon.core.document.mix import PROGRAMME, Bus, Mix, Placement, Send, Strip, Track
from metaphon.core.document.part import Identifier, Name
from metaphon.core.document.targets import bus_format
from metaphon.core.edits.command import Command, Strips, changed, free_id, names, strip_of
from metaphon.core.edits.recording_layout import Label
from metaphon.core.errors import InputError
from metaphon.core.spatial.layouts import LOUDSPEAKERS
from metaphon.core.spatial.recording_layout import UNUSED, recorded_as

_MONO = "M+000"


class SplitToObjects(Command):
    """Make objects of the channels of a track, each at its loudspeaker's place.

    An LFE stays in the bed. Each has the gain, chain, sends and automation of the track, which is
    deactivated.
    """

    kind: Literal["split_to_objects"] = "split_to_objects"
    strip: Identifier
    labels: tuple[Label, ...] = Field(
        min_length=1,
        max_length=64,
        description="What the channels of its recording are, in order; - for one that is not used.",
    )

    def apply(self, mix: Mix) -> Mix:
        track = strip_of(mix, self.strip)
        if not isinstance(track, Track) or not track.clips:
            raise InputError(f"{track.name} has no recording; only tracks with one can be split.")
        if track.output != PROGRAMME:
            raise InputError(f"{track.name} feeds a bus; route it to the mix first.")
        if track.placement.mode in ("object", "scene"):
            raise InputError(f"{track.name} is no bed; place it as a bed first.")
        recorded_as(" ".join(self.labels))  # refuses what is no loudspeaker
        parts: list[Track] = []
        for number, label in enumerate(self.labels):
            if label != UNUSED:
                part = self._part(
                    mix.model_copy(update={"tracks": (*mix.tracks, *parts)}), track, number
                )
                parts.append(part)
        if len(parts) < 2:
            raise InputError(f"{track.name} has one channel; place it as an object.")
        place = next(n for n, one in enumerate(mix.tracks) if one.id == track.id) + 1
        tracks = (*mix.tracks[:place], *parts, *mix.tracks[place:])
        mix = mix.model_copy(update={"tracks": tracks})
        for path, lane in lanes_of(mix, track.id).items():
            for part in parts if not path.startswith("placement/") else ():
                mix = with_lane(mix, lane.model_copy(update={"target": f"{part.id}/{path}"}))
        return changed(mix, [track.id], lambda _: {"resting": True, "soloed": False})

    def _part(self, mix: Mix, track: Track, number: int) -> Track:
        """One channel of a track as a track of its own."""
        label = self.labels[number]
        azimuth_deg, elevation_deg = LOUDSPEAKERS[label]
        is_low = label.startswith("LFE")
        used = [UNUSED] * len(self.labels)
        used[number] = label if is_low else _MONO
        name = f"{track.name[:100]} {label}"
        place = track.placement
        if not is_low:
            place = Placement(mode="object", azimuth_deg=azimuth_deg, elevation_deg=elevation_deg)
        sends = tuple(send if is_low else _turned_on(send, azimuth_deg) for send in track.sends)
        return track.model_copy(
            update={
                "id": free_id(mix, name, "track"),
                "name": name,
                "layout": " ".join(used),
                "placement": place,
                "sends": sends,
                "print_of": None,
                "take": 0,
            }
        )

    def describe(self, mix: Mix) -> str:
        return f"Split {strip_of(mix, self.strip).name} into objects"


def _turned_on(send: Send, azimuth_deg: float) -> Send:
    """A send that turns what it takes, for one loudspeaker of it."""
    if send.azimuth_deg is None:
        return send
    turned = (send.azimuth_deg + azimuth_deg + 180.0) % 360.0 - 180.0
    return send.model_copy(update={"azimuth_deg": turned})


class GatherIntoScene(Command):
    """Make an ambisonic scene of objects: a bus that they feed, each from its direction.

    Their placements are kept, and count again when they are routed to the mix.
    """

    kind: Literal["gather_into_scene"] = "gather_into_scene"
    strips: Strips
    order: int = Field(3, ge=1, le=7)
    name: Name = Field("Scene", max_length=110)

    def apply(self, mix: Mix) -> Mix:
        for one in self.strips:
            self._require_object(strip_of(mix, one))
        name = self.name.strip() or "Scene"
        bus = Bus(
            id=free_id(mix, name, "scene"),
            name=name,
            layout=bus_format(f"scene{self.order}").name,
            placement=Placement(mode="scene"),
        )
        mix = mix.model_copy(update={"buses": (*mix.buses, bus)})
        return changed(mix, self.strips, lambda _: {"output": bus.id})

    def _require_object(self, strip: Strip) -> None:
        if strip.placement.mode != "object" or strip.output != PROGRAMME:
            raise InputError(f"{strip.name} is no object of the mix; choose objects only.")

    def describe(self, mix: Mix) -> str:
        return f"{names(mix, self.strips)}: gathered into an order {self.order} scene"
