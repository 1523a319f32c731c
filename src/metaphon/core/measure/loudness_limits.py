"""What a delivery asks of loudness and peaks, and whether a programme is so."""

from dataclasses import dataclass
from typing import Literal

from metaphon.core.errors import sentence_case
from metaphon.core.measure.programme import Figures

Word = Literal["pass", "warn", "fail"]


@dataclass(frozen=True)
class LoudnessLimits:
    """How loud a programme is to be, how far off it may be, and how high its true peaks may get."""

    loudness_lufs: float
    tolerance_lu: float
    ceiling_dbtp: float


@dataclass(frozen=True)
class Verdict:
    """Whether a programme is as it is asked for, and where it is not, in words."""

    word: Word
    said: str


# EBU R 128: -23.0 LUFS within 0.5 LU, -1 dBTP; the others common practice, no source
SHIPPED = {
    "Broadcast, −23 LUFS": LoudnessLimits(-23.0, 0.5, -1.0),
    "Streaming, −18 LUFS": LoudnessLimits(-18.0, 1.0, -1.0),
    "Streaming, −16 LUFS": LoudnessLimits(-16.0, 1.0, -1.0),
    "Music, −14 LUFS": LoudnessLimits(-14.0, 1.0, -1.0),
}


def judged(figures: Figures, limits: LoudnessLimits) -> Verdict:
    """Hold a programme against limits.

    Too loud, too soft and too high by more than twice what is allowed fail; in between is a
    warning; a true peak above the ceiling fails.
    """
    loudness, peak = figures.integrated_lufs, figures.true_peak_dbtp
    if loudness is None:
        return Verdict("fail", "Too little sound for a loudness.")
    off = loudness - limits.loudness_lufs
    said = []
    word: Word = "pass"
    if abs(off) > limits.tolerance_lu + 0.05:  # as it is shown, to a tenth
        word = "fail" if abs(off) > 2.0 * limits.tolerance_lu + 0.05 else "warn"
        said.append(f"{abs(off):.1f} LU too {'loud' if off > 0.0 else 'soft'}")
    if peak is not None and peak > limits.ceiling_dbtp + 0.05:
        word = "fail"
        said.append(f"true peak {peak - limits.ceiling_dbtp:.1f} dB above {limits.ceiling_dbtp:g}")
    return Verdict(word, f"{sentence_case(', '.join(said))}." if said else "As asked.")
