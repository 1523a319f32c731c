"""Responses as files: WAV and FLAC for samples alone, SOFA with where all stood."""

from pathlib import Path

import numpy as np
import soundfile
from numpy.typing import NDArray

from metaphon.core.errors import InputError
from metaphon.core.foreign import reads_foreign
from metaphon.core.process.impulse_response import require_length, require_sound
from metaphon.core.sound_file import open_sound
from metaphon.core.spaces.space import Space
from metaphon.core.spatial.sofa import ONE_AT_A_TIME

_PEAK = 10.0 ** (-1.0 / 20.0)
_KEPT_BITS = 20  # of 24: 120 dB under the strongest sample


def write_flac(path: Path, response: NDArray[np.float32], rate_hz: int) -> None:
    """Write a response, (channels, taps), small: its peak at -1 dB, in 20 bits."""
    steps = 2.0 ** (_KEPT_BITS - 1)
    level = _PEAK / max(float(np.abs(response).max()), 1e-12)
    rounded = np.round(response.astype(np.float64) * level * steps) / steps
    soundfile.write(str(path), rounded.T, rate_hz, format="FLAC", subtype="PCM_24")


def write_wav(path: Path, response: NDArray[np.float32], rate_hz: int) -> None:
    """Write a response, (channels, taps), as it is, in 32-bit floating point."""
    soundfile.write(str(path), response.T, rate_hz, format="WAV", subtype="FLOAT")


@reads_foreign
def as_flac(path: Path, made: Path, name: str) -> tuple[int, int, int]:
    """Write a response of any format as FLAC; gives its channels, frames and rate.

    Raises InputError in one sentence for what is no sound, silent, not numbers or too long.
    """
    try:
        with open_sound(path) as file:
            rate_hz = file.samplerate
            require_length(file.frames / rate_hz, name)
            sound = file.read(dtype="float32", always_2d=True)
    except (soundfile.LibsndfileError, OSError):
        raise InputError(f"{name} is no sound file that can be read; export it as WAV.") from None
    require_sound(sound, name)
    if sound.shape[1] > 8:
        write_wav(made, sound.T, rate_hz)  # FLAC holds eight channels
    else:
        write_flac(made, sound.T, rate_hz)
    return sound.shape[1], sound.shape[0], rate_hz


def write_sofa(
    path: Path, response: NDArray[np.float32], rate_hz: int, space: Space | None
) -> None:
    """Write a response as SOFA (AES69), convention SingleRoomSRIR: one measurement, all receivers.

    Places are in metres where the space is known, its first microphone being the one: x to the
    front, y to the left, z up.
    """
    import sofar  # slow to import, and few need it

    sofa = sofar.Sofa("SingleRoomSRIR")
    sofa.Data_IR = response[None].astype(float)
    sofa.Data_SamplingRate = float(rate_hz)
    sofa.Data_Delay = np.zeros((1, len(response)))
    sofa.ReceiverPosition = np.zeros((len(response), 3))
    sofa.ReceiverView = np.tile([1.0, 0.0, 0.0], (len(response), 1))[:, :, None]
    sofa.ReceiverUp = np.tile([0.0, 0.0, 1.0], (len(response), 1))[:, :, None]
    for name in ("ReceiverDescriptions", "EmitterDescriptions"):
        sofa.delete(name)
    sofa.GLOBAL_Title = space.room.title if space else path.stem
    if space is not None:
        middle = space.middle_m(space.microphones[0])
        sofa.ListenerPosition = _as_sofa(middle)[None]
        sofa.SourcePosition = _as_sofa(space.sources_m.mean(axis=0))[None]
        sofa.SourcePosition_Type, sofa.SourcePosition_Units = "cartesian", "metre"
        sofa.GLOBAL_RoomDescription = (
            f"{space.room.shape}, {space.room.width_m:g} x {space.room.depth_m:g} x "
            f"{space.room.height_m:g} m, simulated"
        )
    with ONE_AT_A_TIME:
        sofar.write_sofa(str(path), sofa)


def _as_sofa(place_m: NDArray[np.float64]) -> NDArray[np.float64]:
    return np.array([place_m[1], -place_m[0], place_m[2]])
