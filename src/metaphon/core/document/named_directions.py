"""The direction that the name of a track tells: left, right, rear, height and so on.

The words and the angles are common practice, no source; loudspeakers stand within the sectors of
ITU-R BS.2051-3.
"""

import re

_SIDES = {"l": 1.0, "left": 1.0, "r": -1.0, "right": -1.0, "c": 0.0, "centre": 0.0, "center": 0.0}
_HEIGHT = {"top", "high", "height", "heights", "upper", "above", "overhead", "ceiling"}
_REAR = {"rear", "back", "behind"}
_SURROUND = {"surround", "surr", "sur"}
_SIDE = {"side", "wide"}
# labels of loudspeakers that say a depth or a height besides their side
_LABELS = {
    "ls": ("l", "surround"),
    "rs": ("r", "surround"),
    "lss": ("l", "side"),
    "rss": ("r", "side"),
    "lrs": ("l", "rear"),
    "rrs": ("r", "rear"),
    "lb": ("l", "rear"),
    "rb": ("r", "rear"),
    "cs": ("c", "rear"),
    "tfl": ("l", "top"),
    "tfr": ("r", "top"),
    "ltf": ("l", "top"),
    "rtf": ("r", "top"),
    "tbl": ("l", "rear", "top"),
    "tbr": ("r", "rear", "top"),
    "ltr": ("l", "rear", "top"),
    "rtr": ("r", "rear", "top"),
}
_ELEVATION_DEG = 45.0


def read_direction(name: str) -> tuple[float, float] | None:
    """Give the azimuth and elevation in degrees that a name tells; None where it tells none.

    >>> read_direction("Choir left")
    (30.0, 0.0)
    >>> read_direction("Room mics Rear R")
    (-135.0, 0.0)
    >>> read_direction("Gull") is None
    True
    """
    words: set[str] = set()
    for word in re.findall(r"[a-z]+", name.lower()):
        words |= set(_LABELS.get(word, (word,)))
    sides = {_SIDES[word] for word in words & set(_SIDES)}
    elevation = _ELEVATION_DEG if words & _HEIGHT else 0.0
    depth = next(
        (
            angle
            for meant, angle in ((_REAR, 135.0), (_SURROUND, 110.0), (_SIDE, 90.0))
            if words & meant
        ),
        30.0,
    )
    if len(sides) > 1 or not (sides or words & (_REAR | _HEIGHT)):
        return None
    side = sides.pop() if sides else 0.0
    if side == 0.0:
        return (180.0 if depth > 90.0 else 0.0), elevation
    return side * depth, elevation
