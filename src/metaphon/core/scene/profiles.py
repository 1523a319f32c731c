"""What a kind of delivery can hold, and what it will change of a mix, source by source. One row a profile."""

from dataclasses import dataclass

from metaphon.core.scene.mix import PROGRAMME, Mix
from metaphon.core.spatial.layouts import layout_named


@dataclass(frozen=True)
class Profile:
    """The limits of a kind of delivery; None and False are no limit. All rows are made up for practice."""

    name: str
    title: str
    most_objects: int | None = None
    bed: str | None = None  # the one bed it has
    upper_half: bool = False  # nothing below the ears
    extent: bool = True
    sphere_only: bool = False
    scenes: bool = True


PROFILES: dict[str, Profile] = {
    row.name: row
    for row in (
        Profile("open", "No limits"),
        Profile("channels", "Loudspeaker channels only", most_objects=0, bed="4+7+0", scenes=False),
        Profile("dome", "Upper half only", most_objects=32, upper_half=True),
        Profile("hall", "118 objects, fixed bed", most_objects=118, bed="4+7+0", scenes=False),
        Profile(
            "small",
            "Few objects, no extent",
            most_objects=10,
            bed="0+5+0",
            extent=False,
            sphere_only=True,
            scenes=False,
        ),
    )
}


def changes(mix: Mix, profile: Profile) -> dict[str, list[str]]:
    """What a profile will change of each strip that enters the programme, in a few words each, by the strip's id.

    Objects beyond the number that fits go to the bed, in the order of the mix.
    """
    found: dict[str, list[str]] = {}
    objects = 0
    lows = {
        lane.target.split("/")[0]
        for lane in mix.automation
        if lane.target.endswith("/placement/elevation_deg") and any(p.value < 0.0 for p in lane.points)
    }
    for strip in mix.strips:
        place = strip.placement
        if strip.output != PROGRAMME or strip.resting or place.mode == "none":
            continue
        told: list[str] = []
        bed = layout_named(profile.bed).everyday if profile.bed else ""
        if place.mode == "bed" and profile.bed and place.layout != profile.bed:
            told.append(f"bed {layout_named(place.layout).everyday} set in {bed}")
        if place.mode == "scene" and not profile.scenes:
            told.append(f"scene decoded to {bed}" if bed else "scene decoded")
        if place.mode == "object":
            objects += 1
            if profile.most_objects is not None and objects > profile.most_objects:
                told.append(f"panned into {bed}" if bed else "panned into a bed")
            else:
                told += _of_object(
                    profile, place.elevation_deg < 0.0 or strip.id in lows, place.extent_deg, place.distance
                )
        if told:
            found[strip.id] = told
    return found


def _of_object(profile: Profile, below: bool, extent_deg: float, distance: float) -> list[str]:
    told = []
    if profile.upper_half and below:
        told.append("raised to the ears")
    if not profile.extent and extent_deg > 0.0:
        told.append("becomes a point")
    if profile.sphere_only and distance < 1.0:
        told.append("moved out to the sphere")
    return told
