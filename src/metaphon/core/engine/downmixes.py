"""What finished files become where they are folded down, and how headphones compare with stereo."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from scipy.fft import rfft, rfftfreq

from metaphon.core.document.targets import target_named
from metaphon.core.engine.downmix import downmix_matrix
from metaphon.core.engine.making import Result
from metaphon.core.files.channel_labels import LayoutReader
from metaphon.core.measure.programme import ProgrammeMeter
from metaphon.core.spatial.downmix import Shares

_STRETCH = 1 << 16
_STEREO = "0+2+0"
_LFE_HZ = 250.0  # the highest corner that it is sent through
LFE_ABOVE_DB = -12.0  # what lies above it, before it is worth a word
_APART_LU = 2.0  # headphones and stereo of one mix, before it is worth a word


@dataclass(frozen=True)
class Downmix:
    """A file folded down to stereo, and how much louder that is than the file itself.

    `lfe_above_db` is what of its LFE lies above 250 Hz, in dB of it; None where nothing is on it.
    """

    integrated_lufs: float | None
    true_peak_dbtp: float | None
    louder_lu: float | None
    lfe_above_db: float | None


def downmix_of(result: Result, shares: Shares) -> Downmix | None:
    """A finished file in stereo; None for what has two channels, or says where its sounds are."""
    target = result.output.target
    if target.channels <= 2 or result.output.contents:
        return None
    stereo = target_named(_STEREO)
    folded = downmix_matrix(target, shares).astype(np.float32)
    meter = ProgrammeMeter(2, result.figures.sample_rate_hz, stereo.metering_layout)
    reader = LayoutReader(result.path, target.layout)
    low = [n for n, one in enumerate(target.layout.is_lfe) if one] if target.layout else []
    hertz = rfftfreq(_STRETCH, 1.0 / result.figures.sample_rate_hz)
    above, whole = 0.0, 0.0
    for at in range(0, reader.frames, _STRETCH):
        block = reader.read(at, min(_STRETCH, reader.frames - at))
        meter.add(folded @ block)
        if low:
            power = np.abs(rfft(block[low], _STRETCH)) ** 2
            whole += float(power.sum())
            above += float(power[:, hertz > _LFE_HZ].sum())
    reader.close()
    found = meter.finish()
    own = result.figures.integrated_lufs
    louder = None
    if found.integrated_lufs is not None and own is not None:
        louder = round(found.integrated_lufs - own, 2)
    high = round(float(10.0 * np.log10(max(above / whole, 1e-12))), 1) if whole else None
    return Downmix(found.integrated_lufs, found.true_peak_dbtp, louder, high)


def headphones_against_stereo(results: Sequence[Result]) -> list[str]:
    """Where headphones and stereo of one programme are not equally loud, in sentences."""
    levels: dict[str, dict[str, float]] = {}
    for one in results:
        loudness = one.figures.integrated_lufs
        if not one.output.stem and loudness is not None:
            name = one.output.alternative.name if one.output.alternative else "The mix"
            levels.setdefault(name, {})[one.output.target.name] = loudness
    said = []
    for name, found in levels.items():
        if {"binaural", _STEREO} <= set(found):
            apart = found["binaural"] - found[_STEREO]
            words = "louder" if apart > 0.0 else "softer"
            note = ", more than is usual" if abs(apart) > _APART_LU else ""
            said.append(f"{name}: {abs(apart):.1f} LU {words} on headphones than in stereo{note}.")
    return said
