"""Stems of a mix that goes through limiters add up to it, however it is rendered."""

from typing import Any
from unittest.mock import patch

import numpy as np
import soundfile

from metaphon.core.document.handover import Handover
from metaphon.core.engine import lanes
from metaphon.core.engine.making import Result
from metaphon.core.engine.naming import Names
from metaphon.core.engine.offline import render_to_files, runs_of
from metaphon.core.engine.sums import sums_of
from tests.core.test_making import Divided
from tests.sounds import RATE_HZ, FolderTest, noise

HARD = {"kind": "limiter", "drive_db": 12.0, "ceiling_dbtp": -10.0, "release_ms": 60.0}


def limited(test: FolderTest) -> Any:
    """Three sources through a limited bus into a limited bus, one of them by a reverb."""
    for n in range(3):
        bursts = noise(1, 2.0, n) * (np.sin(np.arange(2 * RATE_HZ) / 3000.0 / (n + 1)) > 0.0)
        test.write(f"{n}.wav", bursts * (3.0 if n == 1 else 1.0))
    room = {"kind": "network_reverb", "decay_s": 0.3}
    send = {"sends": [{"bus": "hall", "level_db": -6.0}], "output": "drums"}
    look = {"kind": "eq", "phase": "linear", "bands": [{"gain_db": 3.0}]}
    points = [{"t_s": 0.0, "value": 0.0}, {"t_s": 1.5, "value": 12.0}]
    return test.mix(
        [
            {"sound": "0.wav", **send},
            {"sound": "1.wav", "output": "drums", "chain": [look]},
            {"sound": "2.wav", "placement": {"mode": "object", "azimuth_deg": 40.0}},
        ],
        buses=[
            {"id": "drums", "name": "Drums", "chain": [HARD], "output": "all"},
            {"id": "hall", "name": "Hall", "chain": [room, HARD], "output": "all"},
            {"id": "all", "name": "All", "chain": [look, HARD]},
        ],
        automation=[{"target": "drums/chain/0/drive_db", "points": points}],
    )


class Limited(FolderTest):
    def handed_over(self, **more: Any) -> tuple[list[Result], Handover]:
        asked = Handover(**{"bits": "32f", "targets": ("0+2+0",), **more})
        results, _ = render_to_files(
            runs_of(limited(self), asked), self.folder / "out", asked, Names("T")
        )
        left = [path.name for path in (self.folder / "out").iterdir() if path.name[0] == "."]
        self.assertEqual(left, [])
        return results, asked

    def off_db(self, results: list[Result]) -> float:
        """What the stems of a kind differ by from the mix, by hand, in dB below its peak."""
        read = [soundfile.read(str(one.path))[0] for one in results]
        return float(20 * np.log10(np.abs(sum(read[1:]) - read[0]).max() / np.abs(read[0]).max()))

    def test_stems_of_every_kind_add_up(self) -> None:
        limited = {"level": "limiter", "loudness_lufs": -9.0}
        for kind, rooms, more in (
            ("tracks", "shared", limited),
            ("tracks", "apart", {}),
            ("buses", "shared", {"rate_hz": 44100}),
            ("buses", "apart", limited),
            ("placements", "shared", {}),
        ):
            with self.subTest(kind=kind, rooms=rooms, **more):
                stems = {kind: ("0+2+0",)}
                results, _ = self.handed_over(stems=stems, rooms=rooms, **more)
                self.assertGreater(len(results), 2)
                self.assertLess(self.off_db(results), -90.0)

    def test_in_pieces_and_from_anywhere(self) -> None:
        for more in ({"start_s": 0.7, "end_s": 1.9}, {"level": "limiter", "loudness_lufs": -9.0}):
            with self.subTest(**more), patch.object(lanes, "PIECE_S", 0.4):
                results, _ = self.handed_over(stems={"tracks": ("0+2+0",)}, **more)
                self.assertLess(self.off_db(results), -90.0)

    def test_in_every_target_of_a_handover(self) -> None:
        targets = ("0+2+0", "0+5+0", "binaural", "scene1")
        more = {"level": "limiter", "loudness_lufs": -9.0}
        results, _ = self.handed_over(targets=targets, stems={"tracks": targets}, **more)
        for target in targets:
            some = [one for one in results if one.output.target.name == target]
            self.assertLess(self.off_db(some), -90.0)

    def test_each_by_itself_holds_its_own_ceiling(self) -> None:
        more = {"level": "limiter", "loudness_lufs": -9.0, "ceiling_dbtp": -3.0}
        stems = {"tracks": ("0+2+0",)}
        results, asked = self.handed_over(stems=stems, stem_dynamics="own", **more)
        for one in results:
            self.assertLess(one.figures.true_peak_dbtp or 0.0, -3.0 + 1e-6)
        self.assertGreater(self.off_db(results), -60.0)
        [told] = sums_of(results, asked)
        self.assertIn("by itself", told.said)

    def test_stems_by_gain_alone_keep_the_balance(self) -> None:
        """As wide as recorded, whatever widths the mixes beside them have."""
        self.write("a.wav", noise(1, 2.0, 1))
        self.write("b.wav", noise(2, 2.0, 2))
        self.write("c.wav", noise(6, 2.0, 3))
        mix = self.mix([{"sound": name} for name in ("a.wav", "b.wav", "c.wav")])
        asked = Handover(
            targets=("0+2+0", "0+5+0"),
            stems={"tracks": ("own",)},
            level="gain",
            loudness_lufs=-34.0,
            bits="32f",
        )
        results, _ = render_to_files(runs_of(mix, asked), self.folder / "out", asked, Names("T"))
        self.assertLess(results[0].gain_db, -3.0)
        for one, name in zip(results[2:], ("a.wav", "b.wav", "c.wav"), strict=True):
            wanted, _ = soundfile.read(str(self.folder / name), always_2d=True)
            got, _ = soundfile.read(str(one.path), always_2d=True)
            np.testing.assert_allclose(got[: len(wanted)], wanted, atol=1e-6)
        [told] = sums_of(results, asked)
        self.assertIn("none is turned up or down", told.said)


class ByManyWorkers(Divided):
    def test_part_by_part(self) -> None:
        stems = {"tracks": ("0+2+0",), "buses": ("0+2+0",)}
        for targets, level in ((("0+2+0", "0+5+0"), "limiter"), ((), "as_it_is")):
            asked = Handover(targets=targets, stems=stems, level=level, loudness_lufs=-9.0)
            for seconds in (0.6, 300.0):
                with (
                    self.subTest(level=level, seconds=seconds),
                    patch.object(lanes, "PIECE_S", seconds),
                ):
                    self.assert_same_bytes(limited(self), asked, 4)
