"""What automation makes of a mix at one moment, as controls show it."""

from metaphon.core.document.mix import Mix
from metaphon.core.document.positions import FORMS, other_form, used_lanes
from metaphon.core.edits.chain_places import basics_place
from metaphon.core.edits.command import strip_of
from metaphon.core.edits.lane_trim import lane_value
from metaphon.core.edits.values import placement_at, position_of


def moved_values(mix: Mix, at_s: float, most: int = 64) -> dict[str, float]:
    """What automation makes of the values that it moves, at a time.

    Parameters
    ----------
    mix
        The mix.
    at_s
        The time, in seconds.
    most
        Of so many lanes, in the order of the mix.

    Returns
    -------
        By strip and path, with a space between, as controls name what they set. A position is
        there in both forms, and the first basics of a chain by their short name too.
    """
    found: dict[str, float] = {}
    placed: dict[str, None] = {}
    for lane in mix.automation[:most]:
        strip_id, _, path = lane.target.partition("/")
        value = lane_value(mix, lane.target, at_s)
        assert value is not None
        if path.startswith("placement/"):
            placement = strip_of(mix, strip_id).placement
            kept = FORMS[other_form(placement.coordinates)]
            if placement.mode == "object" and path.removeprefix("placement/") in kept:
                continue  # its other form is used
            placed[strip_id] = None
        found[f"{strip_id} {path}"] = round(value, 4)
        place = basics_place(mix, strip_id)
        if place is not None and path.startswith(f"chain/{place}/"):
            found[f"{strip_id} {path.replace(f'chain/{place}', 'basics', 1)}"] = round(value, 4)
    for strip_id in placed:
        strip = strip_of(mix, strip_id)
        if strip.placement.mode == "object" and used_lanes(mix, strip):
            moved = placement_at(mix, strip, at_s)
            position = position_of(strip.model_copy(update={"placement": moved}))
            other = FORMS[other_form(strip.placement.coordinates)][:3]
            moves = used_lanes(mix, strip).keys() & set(FORMS[strip.placement.coordinates][:3])
            for name in other if moves else ():
                found[f"{strip_id} placement/{name}"] = position[name]
    return found
