"""Audio files as they lie on disk.

What one holds, and writing one that appears only when it is whole.
"""

import errno
import os
import shutil
import struct
from contextlib import nullcontext, suppress
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from threading import Thread
from types import TracebackType
from typing import Any, Literal, Self

import numpy as np
import soundfile
from numpy.typing import NDArray

from metaphon.core.dsp.sample_rates import RATES_HZ
from metaphon.core.errors import InputError
from metaphon.core.files.dither import Dither
from metaphon.core.files.wav_samples import wav_samples
from metaphon.core.files.wave_chunks import set_mask
from metaphon.core.presence import present
from metaphon.core.sound_file import open_sound

LONGEST_S = 86_400
MOST_CHANNELS = 64  # an ambisonic scene of order 7
CONTAINERS = {
    "WAV": "WAV",
    "WAVEX": "WAV",
    "RF64": "WAV",
    "W64": "W64",
    "FLAC": "FLAC",
    "AIFF": "AIFF",
    "CAF": "CAF",
    "OGG": "Ogg",
    "MP3": "MP3",
}
LOSSY = ("Ogg", "MP3")
READ = "WAV, RF64, BW64, W64, FLAC, AIFF or CAF; also Ogg, Opus or MP3"
Bits = Literal["16", "24", "32f"]


@dataclass(frozen=True)
class AudioInfo:
    """What a file holds, without having read its samples."""

    container: str
    encoding: str
    channels: int
    sample_rate_hz: int
    frames: int

    @property
    def duration_s(self) -> float:
        """Its length in seconds."""
        return self.frames / self.sample_rate_hz


def probe(path: Path, name: str = "") -> AudioInfo:
    """Read a file's header. `name` is what to call it in messages.

    Raises InputError where it is missing, of no kind in CONTAINERS, cut short, empty, or too wide.
    """
    name = name or path.name
    if not present(path).is_file():
        raise InputError(
            f"{name} is not there; put it beside the mix document or correct its name."
        )
    stat = path.stat()
    return _probed(path, name, stat.st_mtime_ns, stat.st_size)


@lru_cache(maxsize=4096)  # a mix in play is made ready anew at every edit
def _probed(path: Path, name: str, changed_ns: int, held: int) -> AudioInfo:
    try:
        with open_sound(path) as file:
            kind, encoding, frames = file.format, file.subtype, file.frames
            channels, rate_hz = file.channels, file.samplerate
    except (soundfile.LibsndfileError, RuntimeError):
        raise InputError(f"{name} is not an audio file that can be read; bring {READ}.") from None
    container = CONTAINERS.get(kind)
    if container is None:
        raise InputError(f"{name} is a {kind} file; bring {READ}.")
    low, high = RATES_HZ
    if not low <= rate_hz <= high:
        raise InputError(
            f"{name} says it is at {rate_hz} Hz; a recording may be at {low // 1000} to "
            f"{high // 1000} kHz. Export it again."
        )
    if frames > LONGEST_S * rate_hz:
        raise InputError(f"{name} is longer than a day; split it.")
    if not 1 <= channels <= MOST_CHANNELS:
        raise InputError(
            f"{name} has {channels} channels; a recording may have 1 to {MOST_CHANNELS}. Split it."
        )
    promised = _promised_bytes(path)
    if held - promised >= 1 << 32:
        raise InputError(
            f"{name} is past 4 GB, and a header of its kind cannot say how long it is; export it "
            "as RF64, BW64, W64 or CAF."
        )
    if promised > held + 1:
        raise InputError(
            f"{name} is cut short: {held} of {promised} bytes are there. Copy or export it again."
        )
    if frames <= 0:
        raise InputError(f"{name} holds no sound, 0 samples; export it again.")
    return AudioInfo(container, encoding, channels, rate_hz, frames)


def _promised_bytes(path: Path) -> int:
    """The end of the sound as a RIFF or IFF header gives it, or its beginning if it does not say.

    Other files promise what they hold. The reading library mends such headers silently, and a mix
    would be short without anybody knowing.
    """
    with path.open("rb") as file:
        head = file.read(12)
        order = {b"RIFF": "<", b"FORM": ">"}.get(head[:4])
        if order is None:
            return path.stat().st_size
        while len(chunk := file.read(8)) == 8:
            kind, size = chunk[:4], struct.unpack(order + "I", chunk[4:])[0]
            if kind in (b"data", b"SSND"):
                return file.tell() + (0 if size == 0xFFFFFFFF else size)
            file.seek(size + size % 2, os.SEEK_CUR)
    return path.stat().st_size


class ClipReader:
    """Reads stretches of a file at any place, silence outside it."""

    def __init__(self, path: Path) -> None:
        self._file = open_sound(path)
        self.channels = self._file.channels
        self.frames = self._file.frames
        self._at = 0
        self._plain = wav_samples(path)
        self._open = os.open(path, os.O_RDONLY) if self._plain else None

    @property
    def is_quick(self) -> bool:
        """Whether samples are read as they lie in the file; else they have to be decoded."""
        return self._plain is not None

    def read(self, first: int, frames: int) -> NDArray[np.float32]:
        """Samples [first, first + frames) as (channels, frames); first may be negative."""
        start, stop = max(first, 0), min(first + frames, self.frames)
        whole = start == first and stop == first + frames
        out = (np.empty if whole else np.zeros)((self.channels, frames), dtype=np.float32)
        if start >= stop:
            return out
        into = out[:, start - first : stop - first]
        if self._plain and self._open is not None:
            got = self._plain.read(self._open, start, into)
            if got < stop - start:
                raise self._damaged(start + got)
            return out
        if self._at != start:
            self._file.seek(start)
        self._at = stop
        into[:] = self._next(start, stop - start).T
        return out

    def _next(self, start: int, frames: int) -> NDArray[np.float32]:
        """The next frames, (frames, channels), by libsndfile itself.

        The wrapper seeks after each read, slow in FLAC. Raises InputError for what is damaged.
        """
        got = np.zeros((frames, self.channels), dtype=np.float32)
        count = soundfile._snd.sf_readf_float(
            self._file._file, soundfile._ffi.cast("float *", got.ctypes.data), frames
        )
        if count < frames or soundfile._snd.sf_error(self._file._file):
            raise self._damaged(start + max(count, 0))
        return got

    def _damaged(self, frame: int) -> InputError:
        return InputError(
            f"{Path(self._file.name).name} is damaged near {frame / self._file.samplerate:.1f} s; "
            "copy or export it again."
        )

    def close(self) -> None:
        """Let go of the file."""
        self._file.close()
        if self._open is not None:
            os.close(self._open)
            self._open = None


class AudioWriter:
    """Writes an audio file block by block under a passing name; it gets its own when all went well.

    16 and 24 bits are dithered (`files.dither`). What exceeds full scale is held there and counted
    in `clipped_samples`.
    """

    def __init__(
        self, path: Path, channels: int, rate_hz: int, bits: Bits = "24", container: str = "wav"
    ) -> None:
        self.path = path
        self._passing = path.with_name(f".{path.name}.part")
        if container == "flac" and (channels > 8 or bits == "32f"):
            raise InputError("FLAC holds at most 8 channels of 16 or 24 bits; choose WAV.")
        self._channels = channels
        self._flac = container == "flac"
        self._dither = None if bits == "32f" else Dither(int(bits), packed=not self._flac)
        subtype = {"16": "PCM_16", "24": "PCM_24", "32f": "FLOAT"}[bits]
        kind = "FLAC" if container == "flac" else "RF64"
        self._file = soundfile.SoundFile(
            str(self._passing), "w", rate_hz, channels, subtype, format=kind
        )
        if kind == "RF64":
            _let_small_files_be_wav(self._file)

    def add(self, block: NDArray[np.float32]) -> None:
        """Write the next block, (channels, frames)."""
        if self._dither is None:
            self._write(block.T)
            return
        for piece in self._dither.pieces(block):
            if self._flac:
                self._write(piece.view(np.int32).reshape(-1, self._channels))
            else:
                self._write_bytes(piece)

    @property
    def clipped_samples(self) -> int:
        """How many samples so far exceeded full scale; none do in 32-bit float."""
        return self._dither.clipped_samples if self._dither else 0

    def _write(self, frames: NDArray[Any]) -> None:
        try:
            self._file.write(frames)
        except (soundfile.LibsndfileError, AssertionError):
            self._refused(frames.nbytes)
            raise

    def _write_bytes(self, packed: NDArray[np.uint8]) -> None:
        """Samples as they lie in the file, so that the library need not turn them into that."""
        raw = soundfile._ffi.from_buffer(packed)
        if soundfile._snd.sf_write_raw(self._file._file, raw, packed.nbytes) != packed.nbytes:
            self._refused(packed.nbytes)
            raise OSError(errno.EIO, os.strerror(errno.EIO), self.path)

    def _refused(self, wanted: int) -> None:
        # the library does not say what the system said
        if shutil.disk_usage(self.path.parent).free < wanted:
            raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC), self.path) from None

    def close(self) -> None:
        """See that all of it is on the disk, which takes a while; it gets its name on leaving."""
        self._file.close()

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        with suppress(soundfile.LibsndfileError) if kind else nullcontext():
            self.close()
        if kind is None:
            if not self._flac and self._channels > 2:
                set_mask(self._passing, 0)  # the library names loudspeakers by their number alone
            _take_the_place_of(self.path, self._passing)
        else:
            self._passing.unlink(missing_ok=True)


def _take_the_place_of(path: Path, fresh: Path) -> None:
    """Give a file the name of another; that one is let go of meanwhile, as the disk takes long."""
    old = None
    with suppress(OSError):
        old = os.open(path, os.O_RDONLY | os.O_NONBLOCK)
    fresh.replace(path)
    if old is not None:
        Thread(target=os.close, args=(old,)).start()


def _let_small_files_be_wav(file: soundfile.SoundFile) -> None:
    """Write 64-bit sizes only past 4 GiB (libsndfile's SFC_RF64_AUTO_DOWNGRADE)."""
    soundfile._snd.sf_command(file._file, 0x1210, soundfile._ffi.NULL, 1)
