"""Heads as others write them (AES69): delays apart, places in x, y and z, radians, any case."""

from pathlib import Path

import netCDF4
import numpy as np
import sofar

from metaphon.core.spatial.directions import unit_vectors
from metaphon.core.spatial.head import load_head
from metaphon.core.spatial.sofa import read_sofa
from tests.sounds import RATE_HZ, FolderTest

LATE_S = 0.00048  # between the ears, from the side


class Forms(FolderTest):
    def setUp(self) -> None:
        super().setUp()
        places = np.arange(300) + 0.5
        self.elevation = np.degrees(np.arcsin(1.0 - 2.0 * places / 300))
        self.azimuth = np.mod(np.degrees(np.pi * (1.0 + np.sqrt(5.0)) * places), 360.0)

    def head(self, apart: bool, kind: str = "spherical", units: str = "degree, metre") -> Path:
        """A head that is nothing but a delay by the sine of the angle aside, for each ear."""
        aside = np.sin(np.radians(self.azimuth)) * np.cos(np.radians(self.elevation))
        half = aside * LATE_S / 2 * RATE_HZ
        late, taps = np.stack([20.0 - half, 20.0 + half], axis=1), np.arange(96)
        sofa = sofar.Sofa("SimpleFreeFieldHRIR")
        if apart:
            sofa.Data_IR = np.broadcast_to((taps == 8).astype(float), (300, 2, 96)).copy()
            sofa.Data_Delay = late - 8.0
        else:
            sofa.Data_IR = np.sinc(taps - late[..., None])
            sofa.Data_Delay = np.zeros((1, 2))
        sofa.Data_SamplingRate = float(RATE_HZ)
        sofa.SourcePosition = np.stack([self.azimuth, self.elevation, np.ones(300)], axis=1)
        path = self.folder / f"{apart}{kind}{units[:3]}.sofa"
        sofar.write_sofa(str(path), sofa, 0)
        with netCDF4.Dataset(str(path), "r+") as file:
            held = file["SourcePosition"]
            if kind.lower() == "cartesian":
                x, y, z = unit_vectors(self.azimuth, self.elevation).T
                held[:] = np.stack([y, -x, z], axis=1)
            elif units.lower().startswith("rad"):
                held[:, :2] = np.radians(held[:, :2])
            held.Type, held.Units = kind, units
        return path

    def assert_head(self, path: Path) -> None:
        head = load_head(path, RATE_HZ)
        for azimuth, wanted in ((90.0, LATE_S), (-90.0, -LATE_S), (0.0, 0.0), (30.0, LATE_S / 2)):
            left, right = head.responses(unit_vectors(azimuth, 0.0)[None])[0]
            size = 1 << 12
            cross = np.fft.irfft(
                np.fft.rfft(right, size) * np.conj(np.fft.rfft(left, size)), 16 * size
            )
            peak = int(np.argmax(cross))
            late_s = (peak - 16 * size if peak > 8 * size else peak) / 16 / RATE_HZ
            self.assertAlmostEqual(late_s, wanted, delta=0.00003)

    def test_delays_that_stand_apart_are_heard(self) -> None:
        self.assert_head(self.head(apart=False))
        self.assert_head(self.head(apart=True))

    def test_places_in_every_form(self) -> None:
        for kind, units in (
            ("cartesian", ""),
            ("Cartesian", ""),
            ("Spherical", "Degree, Degree, Meter"),
            ("spherical", "radian, radian, metre"),
            ("spherical", "Radians, Radians, Metres"),
        ):
            with self.subTest(kind=kind, units=units):
                path = self.head(True, kind, units or "metre")
                self.assert_head(path)
                told = read_sofa(path).positions
                off = (told[:, 0] - self.azimuth + 180.0) % 360.0 - 180.0
                np.testing.assert_allclose(off, 0.0, atol=1e-4)
                np.testing.assert_allclose(told[:, 1], self.elevation, atol=1e-4)
