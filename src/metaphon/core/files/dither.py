"""From samples to whole numbers of a depth, with dither, and to bytes as they lie in a file."""

import numba
import numpy as np
from numpy.typing import NDArray

from metaphon.core.dsp.block import Block
from metaphon.core.dsp.highest import highest

_STRETCH = 256  # stays in the nearest memory, all channels of it
_SEED = 20480
_TOP_OF_16 = 2.0**15


def dithered(block: Block, depth: int, first: int) -> NDArray[np.int32]:
    """A block as whole numbers of 16 or 24 bits; digital silence stays digital silence.

    TPDF dither, 2 LSB peak to peak (Lipshitz, Wannamaker & Vanderkooy 1992). What exceeds full
    scale is held there.

    Parameters
    ----------
    block
        (channels, frames).
    depth
        In bits.
    first
        How many frames came before: each sample has a chance number of its own by its place, so
        blocks of any length give the same.

    Returns
    -------
        (frames, channels).
    """
    found = np.empty(block.shape[::-1], dtype=np.int32)
    _dithered(np.ascontiguousarray(block), found.reshape(-1), _top(depth), first)
    return found


class DitheredBytes:
    """As `dithered`, as bytes as they lie in a file, the least first; block after block.

    Parameters
    ----------
    depth
        In bits.
    """

    def __init__(self, depth: int) -> None:
        self._depth = depth
        self._held = np.empty(0, dtype=np.uint32)  # one piece of memory for all blocks

    def of(self, block: Block, first: int) -> NDArray[np.uint8]:
        """The bytes of a block; they hold until the next is asked for."""
        count = block.size * self._depth // 8
        if self._held.nbytes < count:
            self._held = np.empty(-(-count // 12) * 3, dtype=np.uint32)
        _dithered_bytes(np.ascontiguousarray(block), self._held, _top(self._depth), first)
        return self._held.view(np.uint8)[:count]


def over_full_scale(block: Block) -> int:
    """How many samples of a block, (channels, frames), exceed full scale."""
    block = np.ascontiguousarray(block)
    if highest(block.reshape(-1)) <= 1.0:
        return 0
    return int(np.count_nonzero(np.abs(block) > 1.0))


def _top(depth: int) -> np.float32:
    return np.float32(2.0 ** (depth - 1))


@numba.njit(cache=True, nogil=True)
def _dithered(block, found, top, first):  # type: ignore[no-untyped-def]
    channels, frames = block.shape
    held = np.zeros(_STRETCH, dtype=np.int32)
    for start in range(0, frames, _STRETCH):
        some = min(_STRETCH, frames - start)
        own = found[start * channels : (start + some) * channels]
        _interleaved(block, start, held, own, top, first)


@numba.njit(cache=True, nogil=True)
def _dithered_bytes(block, found, top, first):  # type: ignore[no-untyped-def]
    channels, frames = block.shape
    held = np.zeros(_STRETCH, dtype=np.int32)
    flat = np.empty(channels * _STRETCH, dtype=np.int32)
    words, halves = found.view(np.uint32), found.view(np.uint16)
    for start in range(0, frames, _STRETCH):
        some = min(_STRETCH, frames - start)
        own = flat[: some * channels]
        _interleaved(block, start, held, own, top, first)
        if top == _TOP_OF_16:
            for i in range(len(own)):
                halves[start * channels + i] = np.uint16(own[i])
        else:
            _in_words(own, words[start * channels * 3 // 4 :])


@numba.njit(cache=True, nogil=True)
def _interleaved(block, start, held, found, top, first):  # type: ignore[no-untyped-def]
    """A stretch of all channels, dithered, frame after frame; silent ones are not worked on."""
    channels = len(block)
    frames = len(found) // channels
    for channel in range(channels):
        sound = block[channel, start : start + frames]
        if highest(sound) == 0.0:
            held[:] = 0
        else:
            place = np.uint32((first + start) * channels + channel + _SEED)
            _rounded(sound, held, top, place, np.uint32(channels))
        for i in range(frames):
            found[i * channels + channel] = held[i]


@numba.njit(cache=True, nogil=True)
def _rounded(sound, held, top, place, step):  # type: ignore[no-untyped-def]
    """A stretch of one channel as dithered whole numbers.

    The chance numbers are the places, made unlike by the last step of MurmurHash3 (Appleby 2011),
    as counters are in Salmon et al., Parallel random numbers (2011). Both halves of one are even;
    their sum is triangular.
    """
    last = np.float32(top - np.float32(1.0))
    far = np.float32(4.0) * top
    for i in range(len(sound)):
        n = np.uint32(place + np.uint32(np.uint32(i) * step))
        n = np.uint32(n ^ (n >> np.uint32(16)))
        n = np.uint32(n * np.uint32(0x85EBCA6B))
        n = np.uint32(n ^ (n >> np.uint32(13)))
        n = np.uint32(n * np.uint32(0xC2B2AE35))
        n = np.uint32(n ^ (n >> np.uint32(16)))
        both = np.float32(np.int32(n >> np.uint32(16))) + np.float32(
            np.int32(n & np.uint32(0xFFFF))
        )
        chance = (both + np.float32(1.0)) * np.float32(2.0**-16) - np.float32(1.0)
        wanted = min(max(sound[i] * top, -far), far)
        # in 32 bits there is no room for both the whole and the part of it
        whole = np.floor(wanted)
        whole += np.rint((wanted - whole) + chance)
        held[i] = np.int32(min(max(whole, -top), last)) if sound[i] != np.float32(0.0) else 0


@numba.njit(cache=True, nogil=True)
def _in_words(whole, found):  # type: ignore[no-untyped-def]
    """Whole numbers of 24 bits, four of them in three words."""
    fours = len(whole) // 4
    low = np.uint32(0xFFFFFF)
    for n in range(fours):
        a, b = np.uint32(whole[4 * n]) & low, np.uint32(whole[4 * n + 1]) & low
        c, d = np.uint32(whole[4 * n + 2]) & low, np.uint32(whole[4 * n + 3])
        found[3 * n] = np.uint32(a | (b << np.uint32(24)))
        found[3 * n + 1] = np.uint32((b >> np.uint32(8)) | (c << np.uint32(16)))
        found[3 * n + 2] = np.uint32((c >> np.uint32(16)) | (d << np.uint32(8)))
    rest = found.view(np.uint8)
    for n in range(4 * fours, len(whole)):
        for part in range(3):
            rest[3 * n + part] = (whole[n] >> (8 * part)) & 0xFF
