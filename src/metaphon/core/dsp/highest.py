"""The highest sample of a stretch, found several samples at a time."""

import numba
import numpy as np


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
