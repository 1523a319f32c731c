"""What both ears hear of loudspeakers and scenes: impulse responses, (channels, 2, taps)."""

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray
from scipy.fft import irfft, next_fast_len, rfft, rfftfreq

from metaphon.core.spatial.air import SPEED_OF_SOUND_M_S
from metaphon.core.spatial.ambisonics import encode, sphere_grid
from metaphon.core.spatial.decoding import CROSSOVER_HZ, Weighting, max_re_weights, per_channel
from metaphon.core.spatial.directions import unit_vectors
from metaphon.core.spatial.ears import EAR_M
from metaphon.core.spatial.head import Head
from metaphon.core.spatial.layouts import layout_named

_PHASE_UP_TO_HZ = 2000.0  # above, the ear hears no phase between the ears


@lru_cache(maxsize=64)
def loudspeaker_responses(head: Head, layout: str, lfe_share: float = 0.0) -> NDArray[np.float32]:
    """Every loudspeaker of a layout from where it stands; an LFE, without direction, at both ears.

    Parameters
    ----------
    head
        Whose ears.
    layout
        A BS.2051 name or one of one's own.
    lfe_share
        The gain of an LFE at each ear.

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
    responses[list(named.is_lfe), :, round(head.mean_delay)] = lfe_share
    responses.flags.writeable = False
    return responses


@lru_cache(maxsize=32)
def scene_responses(head: Head, order: int, weighting: Weighting = "basic") -> NDArray[np.float32]:
    """What both ears hear of every channel of an ambisonic scene.

    Up to where the order can tell the ears apart, responses are true in magnitude and phase; above,
    in magnitude (magnitude least squares). Then levels, and the likeness between the ears, are made
    those of the head in a diffuse field (covariance constraint).

    Parameters
    ----------
    head
        Whose ears.
    order
        1 to 7.
    weighting
        Of the orders: `basic`, `max_re`, or `dual_band`, which is basic below the crossover.

    Returns
    -------
        Responses (channels in ACN order, 2, taps); not to be written to.

    References
    ----------
        C. Schoerkhuber, M. Zaunschirm & R. Hoeldrich, Binaural rendering of ambisonic signals via
        magnitude least squares, DAGA 2018; M. Zaunschirm, C. Schoerkhuber & R. Hoeldrich, Binaural
        rendering of ambisonic signals by head-related impulse response time alignment and a
        diffuseness constraint, J. Acoust. Soc. Am. 143(6), 2018.
    """
    azimuth, elevation, weights = sphere_grid()
    size = 2 * next_fast_len(head.taps, real=True)
    ears = rfft(head.responses(unit_vectors(azimuth, elevation)), size)  # (directions, 2, f)
    hertz = rfftfreq(size, 1.0 / head.rate_hz)
    # what all directions have of delay would be lost where phase is not followed
    waits = np.exp(-2j * np.pi * hertz / head.rate_hz * head.mean_delay)
    ears = ears / waits
    harmonics = encode(azimuth, elevation, order)
    fit = np.linalg.solve(harmonics.T @ (weights[:, None] * harmonics), harmonics.T * weights)
    edge = min(order * SPEED_OF_SOUND_M_S / (2.0 * np.pi * EAR_M), _PHASE_UP_TO_HZ)
    found = np.empty((harmonics.shape[1], 2, len(hertz)), dtype=np.complex128)
    for k, frequency in enumerate(hertz):
        wanted = ears[..., k]
        if frequency > edge:
            turned = np.angle(harmonics @ found[..., k - 1])
            wanted = np.abs(wanted) * np.exp(1j * turned)
        found[..., k] = fit @ wanted
    if weighting != "basic":
        above = np.full(len(hertz), True) if weighting == "max_re" else hertz > CROSSOVER_HZ
        found[..., above] *= per_channel(max_re_weights(order))[:, None, None]
    found = _with_covariance(found, ears, harmonics, weights)
    responses: NDArray[np.float32] = irfft(found * waits, size)[..., : head.taps].astype(np.float32)
    responses.flags.writeable = False
    return responses


def _with_covariance(
    found: NDArray[np.complex128],
    ears: NDArray[np.complex128],
    harmonics: NDArray[np.float64],
    weights: NDArray[np.float64],
) -> NDArray[np.complex128]:
    """Mix the two ears at each frequency so that a diffuse field has the covariance of the head."""
    heard = np.einsum("dk,kef->def", harmonics, found)
    result = np.empty_like(found)
    for k in range(found.shape[2]):
        here, there = (
            _root((part[..., k] * weights[:, None]).T @ part[..., k].conj())
            for part in (heard, ears)
        )
        left, _, right = np.linalg.svd(here.conj().T @ there)
        mixing = there @ right.conj().T @ left.conj().T @ np.linalg.inv(here)
        result[..., k] = found[..., k] @ mixing.T
    return result


def _root(covariance: NDArray[np.complex128]) -> NDArray[np.complex128]:
    """A triangular root of a covariance, (2, 2)."""
    least = 1e-6 * np.trace(covariance).real + 1e-12
    return np.asarray(np.linalg.cholesky(covariance + least * np.eye(2)))
