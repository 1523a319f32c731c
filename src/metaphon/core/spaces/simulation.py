"""How a space answers a click: image sources for the first reflections, rays for what follows.

By pyroomacoustics (R. Scheibler, E. Bezzam & I. Dokmanic 2018), whose rays follow M. Vorlaender,
Auralization, and D. Schroeder, Physically based real-time auralization, 2011.
"""

from collections.abc import Callable

import numpy as np
import pyroomacoustics as rooms
from numpy.typing import NDArray
from pyroomacoustics import directivities as patterns

from metaphon.core.spaces.materials import ABSORPTION, BANDS_HZ
from metaphon.core.spaces.space import Material, Microphone, Room, Space
from metaphon.core.spatial.layouts import LAYOUTS

_FIVE = LAYOUTS["0+5+0"]
_RAYS = 20_000
_ORDER = {"box": 6, "round": 2, "l_shape": 3, "wedge": 3}
_RECEIVER = 0.06  # its radius, as a part of a cube's side that holds as much as the room
_RECEIVER_M = (0.25, 1.2)
_HISTOGRAM_S = 0.004
_QUIETEST_DB = -80.0
_QUIETEST = 1e-7  # of a ray's energy
_FADE_S = 0.01
_SEED = 7

Place = tuple[NDArray[np.float64], object]  # where it stands and what it hears from where


def simulated(
    space: Space, rate_hz: int, progress: Callable[[float], None]
) -> list[NDArray[np.float32]]:
    """The response that each microphone of a space hears.

    Parameters
    ----------
    space
        The room, its source and its microphones.
    rate_hz
        Of the responses.
    progress
        Told how much is done, 0 to 1; may raise to leave off.

    Returns
    -------
        (channels, taps) for each microphone, from the moment of the click on. Of a pair of sources
        those of the left come first. Ambisonic is AmbiX; five are 0+5+0, its LFE silent.
    """
    places = [_places(space, one) for one in space.microphones]
    heard: list[list[NDArray[np.float64]]] = [[] for _ in places]
    all_of = len(space.sources_m)
    for done, source in enumerate(space.sources_m):
        every = [place for own in places for place in own]
        span = (done / all_of, 1.0 / all_of)
        found = iter(_heard(space.room, source, every, rate_hz, _within(progress, span)))
        for own, responses in zip(places, heard, strict=True):
            responses += [next(found) for _ in own]
    progress(1.0)
    return [
        _as_channels(one, responses, rate_hz)
        for one, responses in zip(space.microphones, heard, strict=True)
    ]


def _within(
    progress: Callable[[float], None], span: tuple[float, float]
) -> Callable[[float], None]:
    """What tells a part's progress as that of the whole; a part begins somewhere and is so long."""
    return lambda part: progress(span[0] + part * span[1])


def _heard(
    room: Room,
    source: NDArray[np.float64],
    places: list[Place],
    rate_hz: int,
    progress: Callable[[float], None],
) -> list[NDArray[np.float64]]:
    rooms.random.seed(_SEED)
    built = _built(room, rate_hz)
    built.add_source(source)
    for place, pattern in places:
        built.add_microphone(place, directivity=pattern)
    progress(0.05)
    built.image_source_model()
    progress(0.2)
    built.ray_tracing()
    progress(0.7)
    built.compute_rir()
    late = rooms.constants.get("frac_delay_length") // 2  # of what sets sound between samples
    return [np.asarray(built.rir[number][0][late:], dtype=float) for number in range(len(places))]


def _built(room: Room, rate_hz: int) -> rooms.Room:
    made = {
        name: _material(getattr(room, name), room.scattering)
        for name in ("floor", "walls", "ceiling")
    }
    common = {
        "fs": rate_hz,
        "max_order": _ORDER[room.shape],
        "ray_tracing": True,
        "air_absorption": room.air,
    }
    if room.shape == "box":
        sides = dict.fromkeys(("north", "south", "east", "west"), made["walls"])
        built = rooms.ShoeBox(
            [room.width_m, room.depth_m, room.height_m],
            materials={**sides, "floor": made["floor"], "ceiling": made["ceiling"]},
            **common,
        )
    else:
        built = rooms.Room.from_corners(room.corners_m.T, materials=made["walls"], **common)
        built.extrude(room.height_m, materials={"floor": made["floor"], "ceiling": made["ceiling"]})
    built.set_ray_tracing(
        n_rays=_RAYS,
        receiver_radius=float(np.clip(_RECEIVER * np.cbrt(room.volume_m3), *_RECEIVER_M)),
        hist_bin_size=_HISTOGRAM_S,
        energy_thres=_QUIETEST,
    )
    return built


def _material(name: Material, scattering: float) -> rooms.Material:
    bands = {"coeffs": list(ABSORPTION[name]), "center_freqs": list(BANDS_HZ)}
    return rooms.Material(energy_absorption=bands, scattering=scattering)


def _places(space: Space, microphone: Microphone) -> list[Place]:
    """Where what makes up a microphone stands and looks. In front is to the front of the room."""
    middle = space.middle_m(microphone)
    if microphone.pattern == "ambisonic":  # W, Y, Z, X
        axes = (patterns.Omnidirectional(), *(_eight(*to) for to in ((90, 0), (0, 90), (0, 0))))
        return [(middle, axis) for axis in axes]
    if microphone.count == "one":
        return [(middle, _looking(microphone, 0.0))]
    if microphone.count == "pair":
        aside = np.array([0.5 * microphone.spacing_m, 0.0, 0.0])
        half = 0.5 * microphone.angle_deg
        return [
            (middle - aside, _looking(microphone, half)),
            (middle + aside, _looking(microphone, -half)),
        ]
    found: list[Place] = []
    for azimuth, _ in (_FIVE.angles_deg[channel] for channel in _FIVE.main):
        turn = np.radians(90.0 + azimuth)
        out = 0.5 * microphone.spacing_m * np.array([np.cos(turn), np.sin(turn), 0.0])
        found.append((middle + out, _looking(microphone, azimuth)))
    return found


def _looking(microphone: Microphone, azimuth_deg: float) -> object:
    if microphone.pattern == "omni":
        return patterns.Omnidirectional()
    if microphone.pattern == "figure_of_eight":
        return _eight(azimuth_deg, 0.0)
    return patterns.Cardioid(_direction(azimuth_deg, 0.0))


def _eight(azimuth_deg: float, elevation_deg: float) -> object:
    return patterns.FigureEight(_direction(azimuth_deg, elevation_deg))


def _direction(azimuth_deg: float, elevation_deg: float) -> object:
    """Our angles, 0 to the front and positive to the left, as the room has them."""
    return patterns.DirectionVector(
        azimuth=90.0 + azimuth_deg, colatitude=90.0 - elevation_deg, degrees=True
    )


def _as_channels(
    microphone: Microphone, responses: list[NDArray[np.float64]], rate_hz: int
) -> NDArray[np.float32]:
    """Responses of one length, their end let down where it is too soft to be heard."""
    taps = max(map(len, responses))
    sound = np.zeros((len(responses), taps))
    for own, response in zip(sound, responses, strict=True):
        own[: len(response)] = response
    energy = np.cumsum(np.sum(sound**2, axis=0)[::-1])[::-1]
    heard = int(np.count_nonzero(energy > energy[0] * 10.0 ** (_QUIETEST_DB / 10.0)))
    fade = min(round(_FADE_S * rate_hz), heard)
    sound = sound[:, :heard]
    sound[:, heard - fade :] *= np.cos(np.linspace(0.0, np.pi / 2.0, fade)) ** 2
    if microphone.form == "surround":
        groups = sound.reshape(-1, len(_FIVE.main), heard)
        five = np.zeros((len(groups), _FIVE.channels, heard))
        five[:, list(_FIVE.main)] = groups
        sound = five.reshape(-1, heard)
    return sound.astype(np.float32)
