"""Samples straight out of a WAVE file: the bytes are read as they lie and made floats in one go.

Sources: Microsoft & IBM, Multimedia programming interface and data specifications 1.0, 1991 (RIFF);
EBU Tech 3306 and ITU-R BS.2088 (64-bit sizes).
"""

import os
import struct
from dataclasses import dataclass
from pathlib import Path

import numba
import numpy as np
from numpy.typing import NDArray

_PCM, _FLOAT, _EXTENSIBLE = 1, 3, 0xFFFE


@dataclass(frozen=True)
class WavSamples:
    """Where the samples of a file are, and how they are written: its bytes a sample, or floats."""

    begin: int
    channels: int
    width: int
    is_float: bool

    def read(self, descriptor: int, first: int, out: NDArray[np.float32]) -> int:
        """Fill `out`, (channels, frames), from a frame of the file on; gives the frames there were.

        `descriptor` is that of the open file.
        """
        size = self.channels * self.width
        wanted = out.shape[1] * size
        held = np.empty(-(-wanted // 12) * 12, dtype=np.uint8)
        frames = os.preadv(descriptor, [held.data[:wanted]], self.begin + first * size) // size
        if self.width == 3:
            _three_bytes(held.view("<u4"), out, frames)
            return frames
        held = held[: frames * size]
        if self.is_float:
            out[:, :frames] = held.view("<f4").reshape(frames, self.channels).T
        else:
            _whole(held.view(f"<i{self.width}"), out, frames, 2.0 ** (1 - 8 * self.width))
        return frames


def wav_samples(path: Path) -> WavSamples | None:
    """Where the samples of a WAVE file are; None for other files and other ways to write them."""
    with path.open("rb") as file:
        head = file.read(12)
        if head[:4] not in (b"RIFF", b"RF64", b"BW64") or head[8:] != b"WAVE":
            return None
        form: tuple[int, int, int] | None = None
        while len(chunk := file.read(8)) == 8:
            kind, size = chunk[:4], struct.unpack("<I", chunk[4:])[0]
            if kind == b"data":
                return _samples_at(file.tell(), form)
            body = file.read(min(size, 40)) if kind == b"fmt " else b""
            if len(body) >= 16:
                tag, channels = struct.unpack("<HH", body[:4])
                if tag == _EXTENSIBLE and len(body) >= 26:
                    tag = struct.unpack("<H", body[24:26])[0]
                form = tag, channels, struct.unpack("<H", body[14:16])[0]
            file.seek(size + size % 2 - len(body), os.SEEK_CUR)
    return None


def _samples_at(begin: int, form: tuple[int, int, int] | None) -> WavSamples | None:
    if form is None:
        return None
    tag, channels, bits = form
    if (tag, bits) in ((_PCM, 16), (_PCM, 24), (_PCM, 32), (_FLOAT, 32)):
        return WavSamples(begin, channels, bits // 8, tag == _FLOAT)
    return None


@numba.njit(cache=True, nogil=True)
def _three_bytes(words, out, frames):  # type: ignore[no-untyped-def]
    """Samples of 24 bits, four in three words of 32; what is left over of four is at their head."""
    channels = len(out)
    scale = np.float32(2.0**-31)
    fours = -(-frames * channels // 4)
    flat = np.empty(4 * fours, dtype=np.float32)
    for i in range(fours):
        a, b, c = words[3 * i], words[3 * i + 1], words[3 * i + 2]
        flat[4 * i] = np.float32(np.int32(a << np.uint32(8))) * scale
        flat[4 * i + 1] = (
            np.float32(np.int32(((a >> np.uint32(16)) & np.uint32(0xFF00)) | (b << np.uint32(16))))
            * scale
        )
        flat[4 * i + 2] = (
            np.float32(np.int32(((b >> np.uint32(8)) & np.uint32(0xFFFF00)) | (c << np.uint32(24))))
            * scale
        )
        flat[4 * i + 3] = np.float32(np.int32(c & np.uint32(0xFFFFFF00))) * scale
    for channel in range(channels):
        for i in range(frames):
            out[channel, i] = flat[i * channels + channel]


@numba.njit(cache=True, nogil=True)
def _whole(raw, out, frames, scale):  # type: ignore[no-untyped-def]
    channels = len(out)
    for channel in range(channels):
        for i in range(frames):
            out[channel, i] = np.float32(raw[i * channels + channel] * scale)
