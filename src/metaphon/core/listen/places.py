"""Everything that a finished mix will meet, and through what each is heard here."""

from dataclasses import dataclass

from metaphon.core.listen.monitor import Binaural, Monitor, Room, Speakers


@dataclass(frozen=True)
class Place:
    """Where a mix is heard: which format of it, through what, and how noisy it is there.

    `noise_db` is the level of the noise round the listener in dB SPL, where speech is at 65.
    """

    key: str
    title: str
    said: str
    target: str
    monitor: Monitor
    noise_db: float


def _of(name: Speakers) -> Monitor:
    return Monitor(through="speaker", speaker=name)


def _head(radius_cm: float | None) -> Monitor:
    head = Binaural() if radius_cm is None else Binaural(head="sphere", head_radius_cm=radius_cm)
    return Monitor(through="binaural", binaural=head)


_WALLS = Room(width_m=4.2, length_m=5.4, height_m=2.5, absorption=0.35, distance_m=1.8)
_ROOM = Monitor(through="binaural", binaural=Binaural(room=_WALLS))

# noise by common practice, no source
PLACES = (
    Place("mix", "Stereo, as it is", "What the others are held to", "0+2+0", Monitor(), 25.0),
    Place("telephone", "Telephone", "Mono, 300 Hz to 3.4 kHz", "0+2+0", _of("telephone"), 50.0),
    Place("kitchen", "Kitchen radio", "Mono, no bass", "0+2+0", _of("kitchen_radio"), 48.0),
    Place("club", "Club", "Mono, much bass", "0+2+0", _of("club"), 62.0),
    Place("laptop", "Laptop", "Nothing below 250 Hz", "0+2+0", _of("laptop"), 38.0),
    Place("television", "Television", "5.1 by its own downmix", "0+5+0", _of("television"), 38.0),
    Place("car", "Car", "From the driver's seat, on the road", "0+2+0", _of("car"), 60.0),
    Place("head", "Headphones", "A measured head, 7.1.4 round it", "4+7+0", _head(None), 30.0),
    Place("small_head", "A small head", "A sphere of 7.9 cm", "4+7+0", _head(7.9), 30.0),
    Place("large_head", "A large head", "A sphere of 9.7 cm", "4+7+0", _head(9.7), 30.0),
    Place("living_room", "Living room", "5.1 between walls, no height", "0+5+0", _ROOM, 35.0),
)
