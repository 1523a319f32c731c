"""A test signal in the place of a source, to hear where it is."""

import math
import tempfile
from functools import lru_cache
from pathlib import Path
from typing import Literal

import numpy as np
import soundfile
from numpy.typing import NDArray

from metaphon.core.document.mix import Clip, Mix, Strip, Track
from metaphon.core.engine.plan import compile
from metaphon.core.errors import InputError

Signal = Literal["noise", "tone", "click"]
_LENGTH_S = 60.0
_LEVEL = 0.1


def bursts(frames: int, rate_hz: int) -> NDArray[np.float64]:
    """A gate, (frames): open for 0.4 s of every half second, without clicks."""
    within = np.arange(frames) / rate_hz % 0.5
    return np.clip(np.minimum(within, 0.4 - within) / 0.01, 0.0, 1.0)


@lru_cache(maxsize=16)
def signal_file(signal: Signal, rate_hz: int) -> Path:
    """A mono file of a minute.

    Pink noise in bursts, a tone with overtones in bursts, or clicks four times a second.
    """
    frames = round(_LENGTH_S * rate_hz)
    time_s = np.arange(frames) / rate_hz
    if signal == "click":
        sound = np.zeros(frames)
        sound[:: rate_hz // 4] = 8.0
    elif signal == "tone":
        sound = np.sum([np.sin(2 * np.pi * 440.0 * k * time_s) / k for k in range(1, 9)], axis=0)
    else:
        spectrum = np.fft.rfft(np.random.default_rng(5).standard_normal(frames))
        spectrum /= np.sqrt(np.maximum(np.fft.rfftfreq(frames, 1.0 / rate_hz), 20.0) / 1000.0)
        sound = np.fft.irfft(spectrum, frames)
    if signal != "click":  # bursts are heard in their place better than what goes on
        sound = sound * bursts(frames, rate_hz)
    path = Path(tempfile.mkdtemp(prefix="metaphon-signal-")) / f"{signal}.wav"
    soundfile.write(str(path), (sound * _LEVEL).astype(np.float32), rate_hz, subtype="FLOAT")
    return path


def with_test_signal(mix: Mix, strip_id: str, signal: Signal) -> Mix:
    """The mix with a test signal instead of what a track or bus carries, as long as the mix is.

    Its place stays.

    Its fader is at 0 dB, its chain and sends are left out. Raises InputError where it is gone.
    """
    old = next((strip for strip in mix.strips if strip.id == strip_id), None)
    if old is None:
        raise InputError("The source that the test signal stands for is no longer in the mix.")
    try:
        length_s = compile(mix).duration_s
    except InputError:
        length_s = _LENGTH_S
    file = signal_file(signal, mix.sample_rate_hz)
    clips = tuple(
        Clip(file=file, start_s=n * _LENGTH_S)
        for n in range(max(math.ceil(length_s / _LENGTH_S), 1))
    )
    kept = {name: getattr(old, name) for name in Strip.model_fields}
    kept |= {
        "clips": clips,
        "chain": (),
        "sends": (),
        "gain_db": 0.0,
        "muted": False,
        "resting": False,
    }
    new = Track.model_construct(**kept)

    def free(strip: Strip) -> Strip:
        """What fed a bus that is now a test signal feeds nothing."""
        sends = tuple(send for send in strip.sends if send.bus != strip_id)
        output = None if strip.output == strip_id else strip.output
        return strip.model_copy(update={"sends": sends, "output": output, "soloed": False})

    tracks = tuple(free(track) for track in mix.tracks if track.id != strip_id)
    buses = tuple(free(bus) for bus in mix.buses if bus.id != strip_id)
    moving = tuple(
        a
        for a in mix.automation
        if a.target.startswith(f"{strip_id}/placement/") or not a.target.startswith(f"{strip_id}/")
    )
    moving = tuple(a for a in moving if f"/sends/{strip_id}/" not in a.target)
    return mix.model_copy(update={"tracks": (*tracks, new), "buses": buses, "automation": moving})
