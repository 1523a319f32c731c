"""The limiter's ceiling, held by meters that are not the project's own.

Two of them are general-purpose resamplers to eight times the rate, one is the short filter at four
times that ITU-R BS.1770-5, annex 2, asks for at least.
"""

from collections.abc import Iterator

import numpy as np
import soxr
from scipy import signal

from metaphon.core.measure.programme import ProgrammeMeter
from metaphon.core.process.limiter import Limiter
from metaphon.core.spatial.layouts import LAYOUTS
from tests.sounds import FolderTest, files_of

RATES_HZ = (44100, 48000, 96000)


def sounds(rate_hz: int) -> Iterator[tuple[str, np.ndarray]]:
    random, frames = np.random.default_rng(3), 3 * rate_hz // 2
    t = np.arange(frames) / rate_hz
    hiss = random.standard_normal((2, frames)) * 0.3
    yield "white noise", hiss
    yield "bursts", hiss * (np.floor(t * 12.0) % 2)
    yield "square", 0.9 * np.sign(np.sin(2 * np.pi * 997.0 * t))[None]
    yield "high square", 0.9 * np.sign(np.sin(2 * np.pi * 5333.0 * t + 0.3))[None]
    yield "chance of three", random.choice([-1.0, 0.0, 1.0], (1, frames))
    hit = np.exp(-(t % 0.25) / 0.03)
    drums = 3.0 * hit * np.sin(2 * np.pi * 90.0 * t) + hit**4 * random.standard_normal(frames)
    yield "clipped drums", np.clip(2.0 * drums, -1.0, 1.0)[None]


def peaks_db(sound: np.ndarray, rate_hz: int) -> dict[str, float]:
    """The highest true peak of a sound, (channels, frames), as each meter sees it."""
    meter = ProgrammeMeter(
        len(sound), rate_hz, None if len(sound) > 2 else LAYOUTS[f"0+{len(sound)}+0"]
    )
    meter.add(sound.astype(np.float32))
    found = {
        "soxr, 8 times": np.abs(soxr.resample(sound.T, rate_hz, 8 * rate_hz, "VHQ")).max(),
        "scipy, 8 times": np.abs(signal.resample_poly(sound, 8, 1, axis=1)).max(),
        "short, 4 times": np.abs(
            signal.resample_poly(sound, 4, 1, axis=1, window=signal.firwin(49, 0.25))
        ).max(),
    }
    own = meter.finish().true_peak_dbtp
    return {"own": own or -99.0} | {name: 20 * np.log10(peak) for name, peak in found.items()}


class Ceiling(FolderTest):
    def test_every_meter_sees_it_held(self) -> None:
        for rate_hz in RATES_HZ:
            for name, sound in sounds(rate_hz):
                around = np.pad(sound, ((0, 0), (2048, 2048))).astype(np.float32)
                for drive_db, release_ms in ((0.0, 150.0), (12.0, 10.0)):
                    limiter = Limiter(drive_db=drive_db, release_ms=release_ms, ceiling_dbtp=-1.0)
                    peaks = peaks_db(limiter.apply(around, rate_hz).astype(float), rate_hz)
                    for meter, peak_db in peaks.items():
                        with self.subTest(sound=name, rate_hz=rate_hz, meter=meter):
                            self.assertLess(peak_db, -1.0)
                    self.assertGreater(max(peaks.values()), -1.6)  # and no lower than it has to be

    def test_what_is_handed_over_passes_its_own_check(self) -> None:
        for name, sound in sounds(48000):
            self.write("a.wav", sound)
            mix = self.mix([{"sound": "a.wav"}])
            for level, loudness in (("limiter", -9.0), ("gain", -9.0)):
                for rate_hz in (None, 44100):
                    form = {"level": level, "loudness_lufs": loudness, "rate_hz": rate_hz}
                    [made] = files_of(mix, self.folder / "out", "0+1+0", **form)
                    with self.subTest(sound=name, **form):
                        self.assertLess(made.figures.true_peak_dbtp or 0.0, -1.0 + 1e-4)
