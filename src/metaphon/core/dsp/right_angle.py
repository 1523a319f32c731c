"""The right-angle transform: what convolution of real sound needs, and nothing more.

A stretch of real sound is folded to half as many complex values, each turned by its part of a right
angle, and transformed. Products of such spectra are convolutions whose end comes back at the
beginning with its sign turned, which overlap-save throws away anyhow (R. Crandall, B. Fagin 1994,
"Discrete weighted transforms and large-integer arithmetic"). Bins stay in the order in which the
passes leave them, since products do not mind: nothing is sorted, and every loop runs along
neighbours in memory. Radix 4, in place, down by frequency and back up by time.

A spectrum is (blocks, 2 BLOCK): one block for stretches of 2 BLOCK frames, LONG of them for LONG
times as many; a block holds its real parts, then its imaginary ones.
"""

from functools import cache
from typing import NamedTuple

import numpy as np
from numba import njit
from numpy.typing import NDArray

BLOCK = 1024  # complex values
LONG = 16  # blocks of the larger transform
_SIDE = 16  # of the squares in which the last two passes are done
_SQUARE = _SIDE * _SIDE
_U = np.uint64  # an index that is never negative, or loops do not become vector instructions
_fast = njit(nogil=True, cache=True, error_model="numpy", fastmath={"contract", "nsz"})


class Turns(NamedTuple):
    """What a transform turns by.

    `fold` is (2, values). The others are (..., 6, values), cosine and sine of three frequencies in
    turn: of the passes `across` blocks, `within` a block one after another, `close` in its squares.
    """

    fold: NDArray[np.float32]
    across: NDArray[np.float32]
    within: tuple[NDArray[np.float32], ...]
    close: tuple[NDArray[np.float32], ...]


@cache
def turns(blocks: int) -> Turns:
    """What a transform of 1 or LONG blocks turns by."""
    angle = np.pi / 2.0 * np.arange(blocks * BLOCK) / (blocks * BLOCK)
    widest = _of_pass(4 * BLOCK).reshape(6, 4, BLOCK).swapaxes(0, 1)
    across = np.concatenate([widest, _of_pass(BLOCK)[None]])
    return Turns(
        np.array([np.cos(angle), np.sin(angle)], dtype=np.float32),
        np.ascontiguousarray(across),
        tuple(_of_pass(span) for span in (256, 64, 16)),
        tuple(np.repeat(_of_pass(span), _SIDE, axis=1) for span in (4, 1)),
    )


def _of_pass(span: int) -> NDArray[np.float32]:
    angle = -2.0 * np.pi * np.outer((1, 2, 3), np.arange(span)) / (4 * span)
    both = np.stack([np.cos(angle), np.sin(angle)], axis=1)
    return both.reshape(6, span).astype(np.float32)


@njit(inline="always")
def _down(x, t, apart, imaginary, count):  # type: ignore[no-untyped-def]
    """Part of a pass down: values that lie four times `apart` are made four frequencies."""
    for j in range(_U(count)):
        b, c, d, i = j + _U(apart), j + _U(2 * apart), j + _U(3 * apart), _U(imaginary)
        sr, si, tr, ti = x[j] + x[c], x[j + i] + x[c + i], x[j] - x[c], x[j + i] - x[c + i]
        ur, ui, vr, vi = x[b] + x[d], x[b + i] + x[d + i], x[b + i] - x[d + i], x[d] - x[b]
        x[j], x[j + i] = sr + ur, si + ui
        yr, yi = tr + vr, ti + vi
        x[b], x[b + i] = yr * t[0, j] - yi * t[1, j], yr * t[1, j] + yi * t[0, j]
        yr, yi = sr - ur, si - ui
        x[c], x[c + i] = yr * t[2, j] - yi * t[3, j], yr * t[3, j] + yi * t[2, j]
        yr, yi = tr - vr, ti - vi
        x[d], x[d + i] = yr * t[4, j] - yi * t[5, j], yr * t[5, j] + yi * t[4, j]


@njit(inline="always")
def _up(x, t, apart, imaginary, count):  # type: ignore[no-untyped-def]
    """Part of a pass up: what `_down` did is undone, four times as large."""
    for j in range(_U(count)):
        b, c, d, i = j + _U(apart), j + _U(2 * apart), j + _U(3 * apart), _U(imaginary)
        br, bi = x[b] * t[0, j] + x[b + i] * t[1, j], x[b + i] * t[0, j] - x[b] * t[1, j]
        cr, ci = x[c] * t[2, j] + x[c + i] * t[3, j], x[c + i] * t[2, j] - x[c] * t[3, j]
        dr, di = x[d] * t[4, j] + x[d + i] * t[5, j], x[d + i] * t[4, j] - x[d] * t[5, j]
        sr, si, tr, ti = x[j] + cr, x[j + i] + ci, x[j] - cr, x[j + i] - ci
        ur, ui, vr, vi = br + dr, bi + di, di - bi, br - dr
        x[j], x[j + i] = sr + ur, si + ui
        x[b], x[b + i] = tr + vr, ti + vi
        x[c], x[c + i] = sr - ur, si - ui
        x[d], x[d + i] = tr - vr, ti - vi


@njit(inline="always")
def _turned(x, real, y, other):  # type: ignore[no-untyped-def]
    """Write a square of `x` to `y`, rows as columns; real and imaginary parts lie so far apart."""
    for row in range(_U(_SIDE)):
        for column in range(_U(_SIDE)):
            to, of = column + row * _U(_SIDE), row + column * _U(_SIDE)
            y[to], y[to + _U(other)] = x[of], x[of + _U(real)]


@_fast
def _down_within(x, within, close):  # type: ignore[no-untyped-def]
    wide, middle, narrow = within
    first, last = close
    _down(x, wide, 256, BLOCK, 256)
    for group in range(_U(0), _U(BLOCK), _U(256)):
        _down(x[group:], middle, 64, BLOCK, 64)
    for group in range(_U(0), _U(BLOCK), _U(64)):
        _down(x[group:], narrow, 16, BLOCK, 16)
    square = np.empty(2 * _SQUARE, dtype=np.float32)
    for corner in range(_U(0), _U(BLOCK), _U(_SQUARE)):
        _turned(x[corner:], BLOCK, square, _SQUARE)
        _down(square, first, 64, _SQUARE, 64)
        for group in range(_U(0), _U(_SQUARE), _U(64)):
            _down(square[group:], last, 16, _SQUARE, 16)
        for n in range(_U(_SQUARE)):
            x[corner + n] = square[n]
            x[corner + n + _U(BLOCK)] = square[n + _U(_SQUARE)]


@_fast
def _up_within(x, within, close):  # type: ignore[no-untyped-def]
    wide, middle, narrow = within
    first, last = close
    square = np.empty(2 * _SQUARE, dtype=np.float32)
    for corner in range(_U(0), _U(BLOCK), _U(_SQUARE)):
        for n in range(_U(_SQUARE)):
            square[n] = x[corner + n]
            square[n + _U(_SQUARE)] = x[corner + n + _U(BLOCK)]
        for group in range(_U(0), _U(_SQUARE), _U(64)):
            _up(square[group:], last, 16, _SQUARE, 16)
        _up(square, first, 64, _SQUARE, 64)
        _turned(square, _SQUARE, x[corner:], BLOCK)
    for group in range(_U(0), _U(BLOCK), _U(64)):
        _up(x[group:], narrow, 16, BLOCK, 16)
    for group in range(_U(0), _U(BLOCK), _U(256)):
        _up(x[group:], middle, 64, BLOCK, 64)
    _up(x, wide, 256, BLOCK, 256)


@_fast
def forward(stretch, turns, spectrum):  # type: ignore[no-untyped-def]
    """Write the spectrum of a stretch of sound, (2 BLOCK blocks)."""
    fold, across, within, close = turns
    blocks = len(spectrum)
    for block in range(blocks):
        x, first = spectrum[block], block * BLOCK
        one, other = stretch[first : first + BLOCK], stretch[first + blocks * BLOCK :]
        cosine, sine = fold[0, first:], fold[1, first:]
        for n in range(_U(BLOCK)):
            x[n] = one[n] * cosine[n] - other[n] * sine[n]
            x[n + _U(BLOCK)] = one[n] * sine[n] + other[n] * cosine[n]
    if blocks == LONG:
        x = spectrum.reshape(-1)
        for block in range(4):
            _down(x[2 * BLOCK * block :], across[block], 8 * BLOCK, BLOCK, BLOCK)
        for block in range(0, LONG, 4):
            _down(x[2 * BLOCK * block :], across[4], 2 * BLOCK, BLOCK, BLOCK)
    for block in range(blocks):  # each is in the nearest memory now
        _down_within(spectrum[block], within, close)


@_fast
def inverse_end(spectrum, turns, end):  # type: ignore[no-untyped-def]
    """Write the second half of the stretch of a spectrum, (BLOCK blocks); it is used up."""
    fold, across, within, close = turns
    blocks = len(spectrum)
    for block in range(blocks):
        _up_within(spectrum[block], within, close)
    if blocks == LONG:
        x = spectrum.reshape(-1)
        for block in range(0, LONG, 4):
            _up(x[2 * BLOCK * block :], across[4], 2 * BLOCK, BLOCK, BLOCK)
        for block in range(4):
            _up(x[2 * BLOCK * block :], across[block], 8 * BLOCK, BLOCK, BLOCK)
    share = np.float32(1.0 / (blocks * BLOCK))
    for block in range(blocks):
        x, y, first = spectrum[block], end[block * BLOCK :], block * BLOCK
        cosine, sine = fold[0, first:], fold[1, first:]
        for n in range(_U(BLOCK)):
            y[n] = (x[n + _U(BLOCK)] * cosine[n] - x[n] * sine[n]) * share


@_fast
def add_products(total, one, other, one_more, other_more):  # type: ignore[no-untyped-def]
    """Add the products of two pairs of spectra to another: half the ways to memory of one."""
    for block in range(len(total)):
        z, a, b, c, d = total[block], one[block], other[block], one_more[block], other_more[block]
        for n in range(_U(BLOCK)):
            i = n + _U(BLOCK)
            z[n] += a[n] * b[n] - a[i] * b[i] + (c[n] * d[n] - c[i] * d[i])
            z[i] += a[n] * b[i] + a[i] * b[n] + (c[n] * d[i] + c[i] * d[n])
