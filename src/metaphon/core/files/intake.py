"""Bringing a recording in: checked from end to end, at the mix's sample rate, its outline drawn."""

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import soundfile
from numpy.typing import NDArray

from metaphon.core.dsp.resampling import Resampler
from metaphon.core.errors import InputError
from metaphon.core.files.audio import LOSSY, AudioInfo, AudioWriter, probe
from metaphon.core.foreign import reads_foreign
from metaphon.core.measure.peaks import NEAR_FULL_SCALE, decibels
from metaphon.core.sound_file import open_sound

OUTLINE_COLUMNS = 600
_BLOCK = 1 << 16
_SAMPLE_BYTES = 4  # of what is converted: 32-bit float
_GROWN = 4  # times its size: from there on a person is told


@dataclass(frozen=True)
class Intake:
    """What came in. `notices` are plain sentences about anything that was done to it."""

    info: AudioInfo
    channels: int
    sample_rate_hz: int
    frames: int
    sample_peak_dbfs: float | None
    channel_peaks_dbfs: list[float | None]
    outline: list[float]
    converted: bool
    notices: list[str]


@reads_foreign
def take_in(
    path: Path,
    rate_hz: int,
    converted_path: Path,
    name: str,
    most_bytes: int | None = None,
    progress: Callable[[float], None] | None = None,
) -> Intake:
    """Read a recording through; where its rate is not the mix's, write it anew to converted_path.

    The conversion is flat almost up to half the lower rate, in 32-bit float, so that nothing clips.
    What was packed with losses is unpacked there as well, since its samples cannot be found again
    to the frame otherwise. `outline` holds the highest sample of each of OUTLINE_COLUMNS equal
    stretches. Raises InputError as `probe` does, for samples that are not numbers or a file that
    breaks off, and for what would take more than `most_bytes` once it is converted.
    """
    info = probe(path, name)
    lossy = info.container in LOSSY
    converted = lossy or info.sample_rate_hz != rate_hz
    size = round(info.duration_s * rate_hz) * info.channels * _SAMPLE_BYTES
    if converted and most_bytes is not None and size > most_bytes:
        raise InputError(
            f"{name} takes {size / 1e9:.1f} GB once it is at {rate_hz} Hz, and there is room for "
            f"{most_bytes / 1e9:.1f} GB in this mix; cut it shorter, or make room."
        )
    outline = np.zeros(OUTLINE_COLUMNS)
    peaks = np.zeros(info.channels)
    done = 0
    frames = info.frames
    with open_sound(path) as file:
        if converted:
            resampler = (
                Resampler(info.channels, info.sample_rate_hz, rate_hz)
                if info.sample_rate_hz != rate_hz
                else None
            )
            with AudioWriter(converted_path, info.channels, rate_hz, "32f") as writer:
                frames = 0
                for block in _blocks(file, info, name):
                    done = _survey(block, done, info.frames, outline, peaks, progress)
                    fresh = resampler.process(block.T) if resampler else block.T
                    writer.add(fresh)
                    frames += fresh.shape[1]
                rest = resampler.finish() if resampler else block.T[:, :0]
                writer.add(rest)
                frames += rest.shape[1]
        else:
            for block in _blocks(file, info, name):
                done = _survey(block, done, info.frames, outline, peaks, progress)
    notices = []
    if lossy:
        notices.append(
            f"{name} is {info.container}; what its coding took away stays away. Bring the "
            "recording it was made of where there is one."
        )
    if info.sample_rate_hz != rate_hz:
        notices.append(
            f"{name} was at {info.sample_rate_hz} Hz and is now at {rate_hz} Hz like the mix."
        )
    if converted and size > _GROWN * path.stat().st_size:
        notices.append(
            f"{name} takes {size / 1e9:.2f} GB here, {size / path.stat().st_size:.0f} times its "
            "own size, since it was converted."
        )
    if peaks.max(initial=0.0) >= NEAR_FULL_SCALE and info.container not in LOSSY:
        notices.append(
            f"{name} comes within 0.1 dB of full scale; listen whether it was cut off there."
        )
    if not peaks.any():
        notices.append(f"{name} is silent from end to end.")
    return Intake(
        info=info,
        channels=info.channels,
        sample_rate_hz=rate_hz,
        frames=frames,
        sample_peak_dbfs=decibels(float(peaks.max())),
        channel_peaks_dbfs=[decibels(float(peak)) for peak in peaks],
        outline=[round(float(value), 4) for value in outline],
        converted=converted,
        notices=notices,
    )


def _blocks(file: soundfile.SoundFile, info: AudioInfo, name: str):  # type: ignore[no-untyped-def]
    done = 0
    while done < info.frames:
        try:
            block = file.read(_BLOCK, dtype="float32", always_2d=True)
        except soundfile.LibsndfileError:
            block = np.zeros((0, info.channels), dtype=np.float32)
        if len(block) == 0:
            raise InputError(
                f"{name} breaks off after {done / info.sample_rate_hz:.1f} of "
                f"{info.duration_s:.1f} s. "
                "Copy or export it again."
            )
        bad = ~np.isfinite(block).all(axis=1)
        if bad.any():
            at = (done + int(np.argmax(bad))) / info.sample_rate_hz
            raise InputError(
                f"{name} holds samples that are not numbers, the first at {at:.3f} s. "
                "Export it again."
            )
        done += len(block)
        yield block


def _survey(
    block: NDArray[np.float32],
    done: int,
    frames: int,
    outline: NDArray[np.float64],
    peaks: NDArray[np.float64],
    progress: Callable[[float], None] | None,
) -> int:
    size = np.abs(block)
    np.maximum(peaks, size.max(axis=0), out=peaks)
    columns = (done + np.arange(len(block))) * OUTLINE_COLUMNS // frames
    np.maximum.at(outline, columns, size.max(axis=1))
    done += len(block)
    if progress:
        progress(done / frames)
    return done
