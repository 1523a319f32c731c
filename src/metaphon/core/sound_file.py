"""Opening a sound file, whatever kept it and whichever name its container goes by."""

import io
from pathlib import Path
from typing import Any

import soundfile

from metaphon.core.presence import present


def open_sound(path: Path) -> soundfile.SoundFile:
    """Open a sound file to read, brought here where it is kept elsewhere.

    Parameters
    ----------
    path : Path
        A file of any container that libsndfile reads, or BW64.

    Returns
    -------
    soundfile.SoundFile
        The file, to be closed by the caller.

    Raises
    ------
    OSError, soundfile.LibsndfileError
        Where the file is not there, or is no sound.
    """
    with present(path).open("rb") as file:
        is_bw64 = file.read(4) == b"BW64"
    return _Bw64File(path) if is_bw64 else soundfile.SoundFile(str(path))


class _Bw64File(soundfile.SoundFile):  # type: ignore[misc]
    def __init__(self, path: Path) -> None:
        self._bytes = _Bw64AsRf64(path)
        super().__init__(self._bytes)

    def close(self) -> None:
        super().close()
        self._bytes.close()


class _Bw64AsRf64(io.FileIO):
    """A BW64 file that says RF64, which is the same but for its first word.

    libsndfile does not know the newer one. Source: ITU-R BS.2088-1, annex 1.
    """

    def readinto(self, buffer: Any) -> int:
        at = self.tell()
        count = super().readinto(buffer)
        word = b"RF64"[at : at + count]
        memoryview(buffer)[: len(word)] = word
        return count
