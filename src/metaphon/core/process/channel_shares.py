"""What each channel of a strip has of a sound from a direction, whatever its channels are."""

import numpy as np
from numpy.typing import NDArray

from metaphon.core.process.processor import Channels
from metaphon.core.spatial.ambisonics import encode
from metaphon.core.spatial.directions import angles_of, unit_vectors

_NARROW = 4  # how nearly one loudspeaker alone plays a direction


def channel_shares(channels: Channels, vectors: NDArray[np.float64]) -> NDArray[np.float64]:
    """Gains of sounds from directions, of unit energy on loudspeakers.

    Parameters
    ----------
    channels
        Loudspeakers, whose LFE has nothing; a scene, which is encoded; or channels of no place,
        which share alike.
    vectors
        (directions, 3), of any length.

    Returns
    -------
        (directions, channels).
    """
    if channels.order is not None:
        return encode(*angles_of(vectors), channels.order)
    own = own_channels(channels)
    if channels.angles_deg and own.sum() > 1:
        azimuth, elevation = np.array(channels.angles_deg).T
        unit = vectors / np.maximum(np.linalg.norm(vectors, axis=1, keepdims=True), 1e-9)
        near = np.maximum(0.5 + 0.5 * unit @ unit_vectors(azimuth, elevation).T, 1e-3)
        shares = own * near**_NARROW
    else:
        shares = np.tile(own, (len(vectors), 1))
    result: NDArray[np.float64] = np.sqrt(
        shares / np.maximum(shares.sum(axis=1, keepdims=True), 1e-12)
    )
    return result


def own_channels(channels: Channels) -> NDArray[np.float64]:
    """1 for each channel that a room may be heard on, 0 for an LFE, (channels)."""
    return np.array([c not in channels.lfe for c in range(channels.count)], dtype=float)
