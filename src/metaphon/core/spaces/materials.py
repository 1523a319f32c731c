"""What surfaces take of sound, and what follows for a room by formula."""

import numpy as np
from numpy.typing import NDArray

from metaphon.core.spaces.space import Material, Room
from metaphon.core.spatial.air import air_absorption_db_per_m

BANDS_HZ = (125.0, 250.0, 500.0, 1000.0, 2000.0, 4000.0)
# energy absorbed in random incidence by octave band: M. Vorlaender, Auralization, 2nd ed. 2020,
# appendix A, rounded; curtains, people and seats are common practice, no source
ABSORPTION: dict[Material, tuple[float, ...]] = {
    "concrete": (0.02, 0.02, 0.03, 0.03, 0.04, 0.05),
    "stone": (0.02, 0.02, 0.03, 0.04, 0.05, 0.05),
    "brick": (0.02, 0.03, 0.03, 0.04, 0.05, 0.07),
    "tiles": (0.01, 0.01, 0.01, 0.02, 0.02, 0.02),
    "plaster": (0.14, 0.10, 0.06, 0.05, 0.04, 0.03),
    "wood": (0.25, 0.15, 0.10, 0.09, 0.08, 0.07),
    "floorboards": (0.15, 0.11, 0.10, 0.07, 0.06, 0.07),
    "glass": (0.28, 0.20, 0.11, 0.06, 0.03, 0.02),
    "carpet": (0.05, 0.08, 0.20, 0.30, 0.35, 0.40),
    "curtains": (0.10, 0.35, 0.45, 0.50, 0.55, 0.60),
    "seats": (0.30, 0.45, 0.60, 0.70, 0.70, 0.65),
    "people": (0.45, 0.60, 0.75, 0.85, 0.90, 0.85),
    "absorber": (0.30, 0.70, 0.90, 0.95, 0.95, 0.95),
}


def absorption_m2(room: Room) -> NDArray[np.float64]:
    """The equivalent absorption area of the surfaces of a room in each of BANDS_HZ."""
    areas = room.surfaces_m2
    taken = [areas[name] * np.array(ABSORPTION[getattr(room, name)]) for name in areas]
    return np.asarray(np.sum(taken, axis=0))


def absorption_of_air_m2(room: Room) -> NDArray[np.float64]:
    """What the air of a room takes in each of BANDS_HZ, as an area: 4 m V; 0 where it is off.

    Source: ISO 354, 8.1.2.1: m is the attenuation of ISO 9613-1, in dB a metre over 10 lg(e).
    """
    if not room.air:
        return np.zeros(len(BANDS_HZ))
    per_m = air_absorption_db_per_m(BANDS_HZ) / (10.0 * np.log10(np.e))
    return np.asarray(4.0 * per_m * room.volume_m3)


def decay_by_sabine_s(room: Room) -> NDArray[np.float64]:
    """Decay time in each of BANDS_HZ by 0.161 V / A, air too (W. C. Sabine 1900; ISO 3382-2)."""
    taken = absorption_m2(room) + absorption_of_air_m2(room)
    return np.asarray(0.161 * room.volume_m3 / taken)


def decay_by_eyring_s(room: Room) -> NDArray[np.float64]:
    """Decay time in each of BANDS_HZ by 0.161 V / (-S ln(1 - a)), air too (C. F. Eyring 1930)."""
    total = sum(room.surfaces_m2.values())
    mean = np.minimum(absorption_m2(room) / total, 0.99)
    taken = -total * np.log1p(-mean) + absorption_of_air_m2(room)
    return np.asarray(0.161 * room.volume_m3 / taken)
