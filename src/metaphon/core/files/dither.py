"""From samples to whole numbers of a depth, with dither, and to bytes as they lie in a file."""

from collections.abc import Iterator

import numba
import numpy as np
from numpy.typing import NDArray

from metaphon.core.dsp.block import Block
from metaphon.core.dsp.highest import highest
from metaphon.core.dsp.wide import (
    SAMPLES,
    as_samples,
    as_wholes,
    floors,
    held_within,
    load,
    put_fours,
    splat,
    store,
    where_sound,
)

_STRETCH = 256  # stays in the nearest memory, all channels of it
_BYTES = 1 << 18  # so many stay in the near memory
_SEED = 20480


class Dither:
    """Turns samples into whole numbers of 16 or 24 bits; digital silence stays digital silence.

    TPDF dither, 2 LSB peak to peak (Lipshitz, Wannamaker & Vanderkooy 1992). What exceeds full
    scale is held there, and counted in `clipped_samples`. Each sample has a chance number of its
    own by its place, so blocks of any length give the same.

    Parameters
    ----------
    depth
        In bits.
    packed
        Whether in as many bytes as the depth has, the least first, as they lie in a WAVE file;
        else as whole numbers of 32 bits, of which the upper ones are used.
    """

    def __init__(self, depth: int, packed: bool = True) -> None:
        self.clipped_samples = 0
        self._top = np.float32(2.0 ** (depth - 1))
        self._bytes = depth // 8 if packed else 4
        self._frames = 0  # so many came before
        self._held = np.empty(0, dtype=np.int32)  # one piece of memory for all blocks

    def pieces(self, block: Block) -> Iterator[NDArray[np.uint8]]:
        """The next block, (channels, frames), frame after frame, a few frames at a time.

        So few that they stay in the near memory; they hold until the next are asked for.
        """
        channels, frames = block.shape
        some = max(_BYTES // (channels * _STRETCH * 4), 1) * _STRETCH
        if not len(self._held):
            self._held = np.empty(some * channels, dtype=np.int32)
        sound = np.ascontiguousarray(block)
        for start in range(0, frames, some):
            stop = min(start + some, frames)
            self.clipped_samples += _dithered(
                sound, start, stop, self._held, self._bytes, self._top, self._frames
            )
            yield self._held.view(np.uint8)[: (stop - start) * channels * self._bytes]
        self._frames += frames


@numba.njit(cache=True, nogil=True)
def _dithered(block, begin, end, found, width, top, first):  # type: ignore[no-untyped-def]
    """The frames of a block from, and up to but not including, one, frame after frame into `found`.

    In so many bytes a sample. Gives how many exceed full scale.
    """
    channels = len(block)
    held = np.zeros((channels, _STRETCH), dtype=np.int32)
    flat = np.empty(channels * _STRETCH + 4, dtype=np.int32)
    words, halves = found.view(np.uint32), found.view(np.uint16)
    upper = np.int32(2.0**31 / top)
    clipped = 0
    for start in range(begin, end, _STRETCH):
        some = min(_STRETCH, end - start)
        own, place = flat[: some * channels], (start - begin) * channels
        clipped += _interleaved(block, start, held, own, top, first)
        if width == 2:
            for i in range(len(own)):
                halves[place + i] = np.uint16(own[i])
        elif width == 3:
            _in_words(own, words[place * 3 // 4 :])
        else:
            for i in range(len(own)):
                found[place + i] = own[i] * upper
    return clipped


@numba.njit(cache=True, nogil=True)
def _interleaved(block, start, held, found, top, first):  # type: ignore[no-untyped-def]
    """A stretch of all channels, dithered, frame after frame; silent ones are not worked on.

    `held` is (channels, _STRETCH). Gives how many samples exceed full scale.
    """
    channels = len(block)
    frames = len(found) // channels
    clipped = 0
    places = (np.arange(_STRETCH) * channels).astype(np.int32)
    for channel in range(channels):
        sound, own = block[channel, start : start + frames], held[channel]
        most = highest(sound)
        if most == 0.0:
            own[:] = 0
        else:
            place = np.uint32((first + start) * channels + channel + _SEED)
            _rounded(sound, places, own, top, place)
        if most > 1.0:
            clipped += _over(sound)
    rows = np.empty(4, dtype=np.int64)
    # the last channels first: where they are fewer than four, those of the next frame are
    # written over, and then written anew
    for channel in range((channels - 1) // 4 * 4, -1, -4):
        for n in range(4):
            rows[n] = min(channel + n, channels - 1) * _STRETCH
        for i in range(0, frames, 4):
            put_fours(held, rows, i, found, i * channels + channel, channels)
    return clipped


@numba.njit(cache=True, nogil=True)
def _over(sound):  # type: ignore[no-untyped-def]
    """How many samples of a stretch exceed full scale."""
    count = 0
    for i in range(len(sound)):
        count += abs(sound[i]) > 1.0
    return count


@numba.njit(cache=True, nogil=True)
def _rounded(sound, places, held, top, place):  # type: ignore[no-untyped-def]
    """A stretch of one channel as dithered whole numbers, sixteen at a time.

    `places` says how far on each sample is behind the first, whose own is `place`.
    """
    first, count = splat(np.int32(place)), len(sound)
    whole = count - count % SAMPLES
    for i in range(0, whole, SAMPLES):
        store(held, i, _numbers(load(sound, i), load(places, i) + first, top))
    if whole < count:
        rest = np.zeros(SAMPLES, dtype=np.float32)
        rest[: count - whole] = sound[whole:]
        store(held, whole, _numbers(load(rest, 0), load(places, whole) + first, top))


@numba.njit(cache=True, nogil=True)
def _numbers(x, n, top):  # type: ignore[no-untyped-def]
    """Samples as dithered whole numbers.

    The chance numbers are the places, made unlike by the last step of MurmurHash3 (Appleby 2011),
    as counters are in Salmon et al., Parallel random numbers (2011). Both halves of one are even;
    their sum is triangular.
    """
    n = n ^ (n >> splat(np.int32(16)))
    n = n * splat(np.int32(0x85EBCA6B - 2**32))
    n = n ^ (n >> splat(np.int32(13)))
    n = n * splat(np.int32(0xC2B2AE35 - 2**32))
    n = n ^ (n >> splat(np.int32(16)))
    both = as_samples((n >> splat(np.int32(16))) + (n & splat(np.int32(0xFFFF))))
    one = splat(np.float32(1.0))
    chance = (both + one) * splat(np.float32(2.0**-16)) - one
    far = np.float32(4.0) * top
    wanted = held_within(x * splat(top), splat(-far), splat(far))
    # in 32 bits there is no room for both the whole and the part of it
    whole = floors(wanted)
    near = splat(np.float32(1.5 * 2.0**23))  # so large that what is added is rounded to whole ones
    whole = whole + (((wanted - whole) + chance + near) - near)
    whole = held_within(whole, splat(-top), splat(np.float32(top - np.float32(1.0))))
    return where_sound(x, as_wholes(whole))


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
