"""The highest sample of a stretch, found several samples at a time, and whether there is any."""

import numba
import numpy as np

_STRETCH = 1024


@numba.njit(cache=True, nogil=True)
def highest(sound):  # type: ignore[no-untyped-def]
    """The largest size among samples in 32 bits, (frames); NaN where one is not a number.

    Numbers that are not negative are in the order of their bits (IEEE 754), and whole numbers are
    compared eight at a time where numbers with a point are compared one by one.
    """
    most = np.int32(0)
    bits = sound.view(np.int32)
    for i in range(len(bits)):
        size = np.int32(bits[i] & np.int32(0x7FFFFFFF))
        most = size if size > most else most
    found = np.int32(most)
    return found.view(np.float32)


@numba.njit(cache=True, nogil=True)
def has_sound(block):  # type: ignore[no-untyped-def]
    """Whether any sample of a block in 32 bits, of any shape, is not 0; known at the first one."""
    sound = np.ascontiguousarray(block).reshape(-1)
    for start in range(0, len(sound), _STRETCH):
        if highest(sound[start : start + _STRETCH]) != 0.0:
            return True
    return False
