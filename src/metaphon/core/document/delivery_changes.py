"""What a delivery will change of a mix, source by source."""

from collections.abc import Iterator

import numpy as np

from metaphon.core.document.delivery_limits import DeliveryLimits
from metaphon.core.document.mix import PROGRAMME, Mix, Strip
from metaphon.core.document.positions import on_sphere, sampled_times, used_lanes
from metaphon.core.spatial.layouts import layout_named


def changes(mix: Mix, limits: DeliveryLimits) -> dict[str, list[str]]:
    """Tell what a delivery will change of each strip that enters the programme.

    Gives a few words each by the strip's id.
    """
    found: dict[str, list[str]] = {}
    entering = [
        s
        for s in mix.strips
        if s.output == PROGRAMME and not s.resting and s.placement.mode != "none"
    ]
    objects = sorted(
        (s for s in entering if s.placement.mode == "object"), key=lambda s: -s.placement.importance
    )
    most = len(objects) if limits.most_objects is None else limits.most_objects
    panned = {strip.id for strip in objects[most:]}
    bed = layout_named(limits.bed).everyday if limits.bed else ""
    for strip in entering:
        place = strip.placement
        notes: list[str] = []
        if place.mode == "bed" and limits.bed and place.layout != limits.bed:
            notes.append(f"bed {layout_named(place.layout).everyday} set in {bed}")
        if place.mode == "scene" and not limits.scenes:
            notes.append(f"scene decoded to {bed}" if bed else "scene decoded")
        if strip.id in panned:
            notes.append(f"panned into {bed}" if bed else "panned into a bed")
        elif place.mode == "object":
            notes += _of_object(mix, strip, limits)
        if notes:
            found[strip.id] = notes
    return found


def _of_object(mix: Mix, strip: Strip, limits: DeliveryLimits) -> Iterator[str]:
    if not (
        limits.upper_half
        or limits.sphere_only
        or not limits.extent
        or limits.most_objects is not None
    ):
        return
    place = strip.placement
    lanes = used_lanes(mix, strip)
    times = sampled_times(lanes.values()) if lanes else np.zeros(1)
    _, elevation, distance, *extent = on_sphere(place, lanes, times)
    if limits.upper_half and np.any(elevation < -0.01):
        yield "raised to the ears"
    if not limits.extent and any(np.any(size > 0.0) for size in extent):
        yield "becomes a point"
    if limits.sphere_only and np.any(distance < 0.999) and not place.on_sphere:
        yield "moved out to the sphere"
    if not limits.extent and (place.divergence > 0.0 or place.diffuseness > 0.0):
        yield "no divergence or diffuseness"
    if limits.most_objects is not None and place.excluded:
        yield "zones are not kept"
