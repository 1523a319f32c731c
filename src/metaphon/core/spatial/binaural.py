"""What both ears hear of loudspeakers and scenes: impulse responses, (channels, 2, taps)."""

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from metaphon.core.spatial.ambisonics import encode, sphere_grid
from metaphon.core.spatial.decoding import virtual_decode
from metaphon.core.spatial.directions import unit_vectors
from metaphon.core.spatial.head import Head
from metaphon.core.spatial.layouts import layout_named


@lru_cache(maxsize=64)
def loudspeaker_responses(head: Head, layout: str) -> NDArray[np.float32]:
    """Every loudspeaker of a layout from where it stands; LFE has no direction and is left out.

    Parameters
    ----------
    head
        Whose ears.
    layout
        A BS.2051 name or one of one's own.

    Returns
    -------
        Responses (channels, 2, taps), left ear first, at the head's rate; not to be written to.

    Raises
    ------
    InputError
        For a layout that is not known.
    """
    named = layout_named(layout)
    responses = head.responses(named.vectors)
    responses[list(named.is_lfe)] = 0.0
    responses.flags.writeable = False
    return responses


@lru_cache(maxsize=32)
def scene_responses(head: Head, order: int) -> NDArray[np.float32]:
    """Every channel of an ambisonic scene, decoded to directions all round.

    Parameters
    ----------
    head
        Whose ears.
    order
        1 to 7.

    Returns
    -------
        Responses (channels in ACN order, 2, taps); not to be written to. Their energy over all
        directions is one, as on loudspeakers.
    """
    azimuth, elevation, weights = sphere_grid()
    responses = head.responses(unit_vectors(azimuth, elevation))
    heard = np.einsum("dk,det->ket", virtual_decode(order), responses)
    # the same average energy as on loudspeakers: one over all directions
    arriving = np.einsum("ket,dk->det", heard, encode(azimuth, elevation, order))
    level = np.sqrt(np.sum(weights * np.sum(arriving**2, axis=(1, 2))))
    found = (heard / level).astype(np.float32)
    found.flags.writeable = False
    result: NDArray[np.float32] = found
    return result
