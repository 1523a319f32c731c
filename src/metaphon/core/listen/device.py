"""From a format to the ears.

Folded down, through a head, from two virtual loudspeakers, or loudspeaker by loudspeaker.
"""

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from metaphon.core.document.targets import Target
from metaphon.core.dsp.block import Block
from metaphon.core.dsp.convolution import Convolver
from metaphon.core.engine.downmix import downmix_matrix
from metaphon.core.listen.loudspeakers import LoudspeakerFeeds
from metaphon.core.listen.monitor import Binaural, Monitor, Room, VirtualPair
from metaphon.core.listen.practice_room import ear_responses
from metaphon.core.listen.speakers import speaker_responses
from metaphon.core.listen.way import Series, Working
from metaphon.core.spatial.air import SPEED_OF_SOUND_M_S
from metaphon.core.spatial.binaural import loudspeaker_responses, scene_responses
from metaphon.core.spatial.directions import unit_vectors
from metaphon.core.spatial.downmix import Shares
from metaphon.core.spatial.head import SHIPPED, Head, load_head
from metaphon.core.spatial.layouts import layout_named
from metaphon.core.spatial.sphere_head import spherical_head

_REFLECTIONS = 3  # how many walls a reflection may have met


class Matrix:
    """A fixed matrix of gains at work, (outputs, inputs)."""

    def __init__(self, gains: NDArray[np.float64]) -> None:
        self._gains = gains.astype(np.float32)

    def process(self, block: Block) -> Block:
        """Take and give (channels, frames), going on from the block before."""
        return self._gains @ block


def device_for(monitor: Monitor, heard: Target, rate_hz: int, shares: Shares) -> Working:
    """What brings a format to the listener.

    Gives two channels, or as many as there are loudspeakers. What they have no place for is kept
    at the mix's shares.
    """
    if monitor.through == "loudspeakers":
        feeds = LoudspeakerFeeds(monitor.loudspeakers, heard, rate_hz, shares)
        if not monitor.loudspeakers.simulated:
            return feeds
        return Series([feeds, Convolver(ear_responses(monitor.loudspeakers.layout, rate_hz))])
    if monitor.through == "virtual_pair" and heard.name != "binaural":
        pair = virtual_pair_responses(monitor.virtual_pair, monitor.binaural, rate_hz)
        folded = downmix_matrix(heard, shares)
        return Convolver(np.einsum("ih,iet->het", folded, pair).astype(np.float32))
    if monitor.through == "binaural" and heard.name != "binaural":
        return Convolver(binaural_responses(monitor.binaural, heard, rate_hz, shares.lfe))
    if monitor.through == "speaker":
        return Convolver(speaker_responses(monitor.speaker, heard, rate_hz, shares))
    return Matrix(downmix_matrix(heard, shares))


def key_of(monitor: Monitor) -> tuple[object, ...]:
    """The settings that tell one device from another."""
    return monitor.through, *{
        "plain": (),
        "binaural": (monitor.binaural,),
        "virtual_pair": (monitor.binaural, monitor.virtual_pair),
        "loudspeakers": (monitor.loudspeakers,),
        "speaker": (monitor.speaker,),
    }[monitor.through]


def head_for(settings: Binaural, rate_hz: int) -> Head:
    """The chosen head. Raises InputError for a file that is none."""
    if settings.head == "sphere":
        return spherical_head(settings.head_radius_cm, rate_hz)
    return load_head(settings.head_file or SHIPPED, rate_hz)


def binaural_responses(
    settings: Binaural, heard: Target, rate_hz: int, lfe_share: float = 0.0
) -> NDArray[np.float32]:
    """What the ears hear of each channel, (channels, 2, taps), in free field or in a room.

    An LFE is at both ears, at its share.
    """
    head = head_for(settings, rate_hz)
    if heard.order is not None:
        return scene_responses(head, heard.order)
    assert heard.layout
    if settings.room is None:
        return loudspeaker_responses(head, heard.layout.name, lfe_share)
    found = in_room(head, heard.layout.name, settings.room).copy()
    found[:, :, round(head.mean_delay)] += lfe_share * np.array(heard.layout.is_lfe)[:, None]
    return found


@lru_cache(maxsize=16)
def in_room(head: Head, layout: str, room: Room) -> NDArray[np.float32]:
    """Loudspeakers in a box, heard directly and from its walls, (channels, 2, taps).

    The direct sound keeps level and time of the free field. Image sources: Allen & Berkley 1979.
    """
    named = layout_named(layout)
    size = np.array([room.width_m, room.length_m, room.height_m])
    reflect = np.sqrt(1.0 - room.absorption)
    limit = size / 2 * 0.98
    counts = np.array(
        [
            (i, j, k)
            for i in _range()
            for j in _range()
            for k in _range()
            if abs(i) + abs(j) + abs(k) <= _REFLECTIONS
        ]
    )
    found = []
    for vector, low in zip(named.vectors, named.is_lfe, strict=True):
        place = np.clip(vector * room.distance_m, -limit, limit)
        # listener in the middle: the image after n walls along an axis lies at n L + (-1)^n x
        images = counts * size + np.where(counts % 2 == 0, 1.0, -1.0) * place
        away = np.linalg.norm(images, axis=1)
        straight = np.linalg.norm(place)
        gains = straight / away * reflect ** np.abs(counts).sum(axis=1) * (0.0 if low else 1.0)
        late = np.rint((away - straight) / SPEED_OF_SOUND_M_S * head.rate_hz).astype(int)
        responses = head.responses(images / away[:, None]) * gains[:, None, None]
        total = np.zeros((2, head.taps + int(late.max())), dtype=np.float32)
        for response, at in zip(responses, late, strict=True):
            total[:, at : at + head.taps] += response
        found.append(total)
    taps = max(part.shape[1] for part in found)
    return np.stack([np.pad(part, ((0, 0), (0, taps - part.shape[1]))) for part in found])


def _range() -> range:
    return range(-_REFLECTIONS, _REFLECTIONS + 1)


def virtual_pair_responses(
    pair: VirtualPair, settings: Binaural, rate_hz: int
) -> NDArray[np.float32]:
    """What the ears hear of a left and a right channel on the two loudspeakers, (2, 2, taps).

    Distance lowers the level by 6 dB a doubling from 2 m; the pair together keeps its delay.
    """
    head = head_for(settings, rate_hz)
    responses = head.responses(unit_vectors([pair.left_deg, pair.right_deg], [0.0, 0.0])) * (
        2.0 / pair.distance_m
    )
    mid, side = np.array([[0.5, 0.5], [0.5, 0.5]]), np.array([[0.5, -0.5], [-0.5, 0.5]])
    result: NDArray[np.float32] = np.einsum(
        "io,iet->oet", mid + pair.width * side, responses
    ).astype(np.float32)
    return result
