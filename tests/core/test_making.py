"""A handover made part by part has the bytes of one made at once."""

import random
from pathlib import Path
from typing import Any
from unittest.mock import patch

import numpy as np
import soundfile

from metaphon.core.document.handover import Handover
from metaphon.core.engine import lanes
from metaphon.core.engine.finishing import Outcome
from metaphon.core.engine.making import Making, Part
from metaphon.core.engine.naming import Names
from metaphon.core.engine.offline import render_to_files, runs_of
from tests.sounds import FolderTest, noise, sine

_PIECE_S = 0.5


class Divided(FolderTest):
    def routed(self) -> Any:
        self.write("a.wav", noise(1, 2.0, 1))
        self.write("b.wav", np.stack([sine(300.0, 2.0, -12.0), sine(500.0, 2.0, -20.0)]))
        room = {"kind": "network_reverb", "decay_s": 0.2}
        points = [{"t_s": 0.0, "value": 0.0}, {"t_s": 1.7, "value": -12.0}]
        return self.mix(
            [
                {"sound": "a.wav", "sends": [{"bus": "hall"}], "placement": {"mode": "object"}},
                {"sound": "b.wav", "sends": [{"bus": "hall", "level_db": -6.0}]},
            ],
            buses=[{"id": "hall", "name": "Hall", "chain": [room]}],
            automation=[{"target": "t0/gain_db", "points": points}],
        )

    def asked(self, **more: Any) -> Handover:
        return Handover(
            targets=("0+2+0", "binaural", "0+5+0"), adm=True, stems={"tracks": ("0+2+0",)}, **more
        )

    def divided(self, mix: Any, asked: Handover, workers: int) -> tuple[Path, list[list[Part]]]:
        """Each part by somebody who knows nothing of the others, in any order within a stage."""
        folder = self.folder / "divided"

        def making() -> Making:
            return Making(runs_of(mix, asked), folder, asked, Names("T"))

        made: dict[tuple[int, int], Outcome] = {}
        stages = making().stages(workers)
        for stage in stages:
            for part in random.Random(7).sample(stage, len(stage)):
                own = making()
                ordered = [made[key] for key in sorted(made)]
                found = own.carry_out(part, own.gains_db(ordered), lambda done: None)
                if part.files:
                    keys = [(part.run, number) for number in part.outputs]
                    made |= dict(zip(keys, found, strict=True))
        results = making().results([made[key] for key in sorted(made)])
        self.assertTrue(all(one.path.exists() for one in results))
        return folder, stages

    def assert_same_bytes(self, mix: Any, asked: Handover, workers: int) -> list[list[Part]]:
        whole, _ = render_to_files(runs_of(mix, asked), self.folder / "whole", asked, Names("T"))
        folder, stages = self.divided(mix, asked, workers)
        for one in whole:
            told = one.path.name
            self.assertEqual(one.path.read_bytes(), (folder / told).read_bytes(), told)
        return stages

    def test_by_run_and_by_target(self) -> None:
        mix = self.routed()
        stages = self.assert_same_bytes(mix, self.asked(), 8)
        self.assertEqual([len(stage) for stage in stages], [4])
        self.assertEqual([one.outputs for one in stages[0][:2]], [(0, 2), (1, 3)])

    def test_stems_that_go_by_the_level_of_the_mix_wait_for_it(self) -> None:
        asked = self.asked(level="gain", loudness_lufs=-30.0)
        stages = self.assert_same_bytes(self.routed(), asked, 2)
        self.assertEqual([len(stage) for stage in stages], [1, 2])

    def test_by_span(self) -> None:
        mix = self.routed()
        with patch.object(lanes, "PIECE_S", _PIECE_S):
            for asked in (
                self.asked(rate_hz=44100, container="flac"),
                self.asked(level="limiter", loudness_lufs=-12.0, lead_s=0.2, tail_s=0.3),
            ):
                stages = self.assert_same_bytes(mix, asked, 2)
                pieces = {part.piece for part in stages[0]}
                self.assertTrue({0, 1, 2, 3} <= pieces)

    def test_pieces_are_one_sound(self) -> None:
        mix, asked = self.routed(), Handover(targets=("0+2+0",), bits="32f")
        sounds = []
        for length_s in (_PIECE_S, 300.0):
            with patch.object(lanes, "PIECE_S", length_s):
                (one,), _ = render_to_files(
                    runs_of(mix, asked), self.folder / str(length_s), asked, Names("T")
                )
            sounds.append(soundfile.read(str(one.path))[0])
        pieces, whole = sounds
        self.assertGreater(np.abs(whole).max(), 0.1)
        self.assertLess(np.abs(pieces - whole).max(), 1e-6 * np.abs(whole).max())

    def test_what_is_held_is_held_across_pieces(self) -> None:
        self.write("click.wav", np.pad(noise(1, 0.2, 3), ((0, 0), (0, 96000))))
        room = {"kind": "network_reverb", "decay_s": 0.2, "wet_only": True}
        moves = [{"t_s": 0.15, "value": 0.0}, {"t_s": 0.2, "value": 1.0}]
        mix = self.mix(
            [{"sound": "click.wav", "chain": [room]}],
            automation=[{"target": "t0/chain/0/hold", "points": moves}],
        )
        asked = Handover(targets=("0+2+0",), bits="32f")
        with patch.object(lanes, "PIECE_S", _PIECE_S):
            (one,), _ = render_to_files(runs_of(mix, asked), self.folder, asked, Names("T"))
            sound = soundfile.read(str(one.path))[0]
            self.assertGreater(np.abs(sound[72000:96000]).max(), 1e-3)
            span = render_to_files(
                runs_of(mix, asked), self.folder / "span", asked, Names("T"), span_s=(1.5, 2.0)
            )[0][0]
        late = soundfile.read(str(span.path))[0]
        np.testing.assert_array_equal(late, sound[72000:96000])
