"""Beds made into objects and objects into scenes: what they sound like, and what is left."""

import tempfile
import unittest
from pathlib import Path
from typing import Any

import numpy as np
import soundfile

from metaphon.core.document.mix import Mix
from metaphon.core.document.targets import target_named
from metaphon.core.edits.registry import read
from metaphon.core.engine.edit_null import measure_edit_null
from metaphon.core.engine.plan import compile
from metaphon.core.engine.render import Output, render
from metaphon.core.errors import InputError
from metaphon.core.files.mixdoc import parse
from metaphon.core.spatial.layouts import LAYOUTS
from metaphon.core.spatial.recording_layout import recorded_as
from tests.sounds import RATE_HZ

_BEDS = tuple(layout for layout in LAYOUTS.values() if layout.channels > 1)


class Conversions(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def mix(self, channels: int, **track: Any) -> Mix:
        path = self.folder / f"{channels}.wav"
        sound = np.random.default_rng(channels).normal(0.0, 0.05, (RATE_HZ, channels))
        soundfile.write(path, sound, RATE_HZ, subtype="FLOAT")
        own = {"id": "rain", "name": "Rain", "clips": [{"file": str(path), "start_s": 0.5}]}
        hall = {"id": "hall", "name": "Hall", "layout": "0+5+0"}
        document = {"format": "metaphon-mix", "title": "T", "sample_rate_hz": RATE_HZ}
        return parse({**document, "tracks": [{**own, **track}], "buses": [hall]}, self.folder)

    def split(self, mix: Mix, labels: tuple[str, ...]) -> Mix:
        command = {"kind": "split_to_objects", "strip": "rain", "labels": labels}
        return read(command).apply(mix)

    def sound(self, mix: Mix, target: str) -> np.ndarray[Any, Any]:
        plan = compile(mix)
        blocks = [block for [block] in render(plan, [Output(target_named(target))], 0, RATE_HZ * 2)]
        return np.concatenate(blocks, axis=1).astype(np.float64)

    def difference_db(self, before: Mix, after: Mix, target: str) -> float:
        old, new = self.sound(before, target), self.sound(after, target)
        return 10.0 * np.log10(max(np.sum((old - new) ** 2) / np.sum(old**2), 1e-30))

    def test_every_bed_split_sounds_the_same_on_its_own_loudspeakers(self) -> None:
        for layout in _BEDS:
            with self.subTest(layout.name):
                mix = self.mix(
                    layout.channels,
                    layout=layout.name,
                    gain_db=-3.0,
                    placement={"mode": "bed", "layout": layout.name},
                    chain=[{"kind": "eq", "bands": [{"frequency_hz": 900.0, "gain_db": 5.0}]}],
                )
                after = self.split(mix, layout.labels)
                parts = [one for one in after.tracks if not one.resting]
                self.assertEqual(len(parts), layout.channels)
                for part, label, low in zip(parts, layout.labels, layout.is_lfe, strict=True):
                    self.assertEqual(part.name, f"Rain {label}")
                    self.assertEqual(part.placement.mode, "bed" if low else "object")
                self.assertTrue(after.find_strip("rain").resting)
                self.assertLess(self.difference_db(mix, after, layout.name), -110.0)

    def test_sends_and_lanes_go_with_them(self) -> None:
        mix = self.mix(
            6,
            placement={"mode": "bed", "layout": "0+5+0"},
            sends=[{"bus": "hall", "level_db": -6.0}],
        )
        lane = {"kind": "set_breakpoint", "strip": "rain", "path": "gain_db", "place": None}
        for t_s, value in ((0.5, 0.0), (1.4, -20.0)):
            mix = read({**lane, "t_s": t_s, "value": value}).apply(mix)
        after = self.split(mix, LAYOUTS["0+5+0"].labels)
        self.assertEqual(len(after.automation), 7)
        self.assertLess(self.difference_db(mix, after, "0+5+0"), -110.0)

    def test_one_channel_of_many_is_that_channel_alone(self) -> None:
        mix = self.mix(6, placement={"mode": "bed", "layout": "0+5+0"})
        after = self.split(mix, LAYOUTS["0+5+0"].labels)
        recorded, _ = soundfile.read(self.folder / "6.wav")
        first = RATE_HZ // 2
        for number, part in enumerate(one for one in after.tracks if not one.resting):
            alone = after.model_copy(
                update={
                    "tracks": tuple(
                        one.model_copy(update={"resting": one.id != part.id})
                        for one in after.tracks
                    )
                }
            )
            heard = self.sound(alone, "0+5+0")
            expected = np.zeros_like(heard)
            expected[number, first : first + RATE_HZ] = recorded[:, number]
            np.testing.assert_allclose(heard, expected, atol=2e-6)

    def test_the_null_says_what_a_chain_across_channels_changes(self) -> None:
        target = target_named("0+2+0")
        wide = {"placement": {"mode": "bed", "layout": "0+2+0"}, "gain_db": -6.0}
        for chain, low, high in (
            ([], -300.0, -110.0),
            ([{"kind": "basics", "width": 0.0}], -6.0, 0.0),
        ):
            mix = self.mix(2, chain=chain, **wide)
            after = self.split(mix, ("M+030", "M-030"))
            null = measure_edit_null(mix, after, {one.id for one in after.tracks}, target)
            assert null
            self.assertTrue(low <= null.difference_db <= high, null)
            expected = self.difference_db(mix, after, "0+2+0")
            if chain:
                self.assertAlmostEqual(null.difference_db, expected, places=1)

    def test_objects_gathered_are_the_same_scene(self) -> None:
        mix = self.mix(1, placement={"mode": "object", "azimuth_deg": 70.0, "elevation_deg": 25.0})
        lane = {"kind": "set_breakpoint", "strip": "rain", "path": "placement/azimuth_deg"}
        for t_s, value in ((0.5, 70.0), (1.4, -20.0)):
            mix = read({**lane, "place": None, "t_s": t_s, "value": value}).apply(mix)
        for order in range(1, 8):
            with self.subTest(order):
                command = {"kind": "gather_into_scene", "strips": ["rain"], "order": order}
                after = read(command).apply(mix)
                self.assertEqual(after.buses[-1].placement.mode, "scene")
                self.assertLess(self.difference_db(mix, after, f"scene{order}"), -60.0)

    def test_what_cannot_be_made_is_refused_with_a_way_on(self) -> None:
        bed = {"placement": {"mode": "bed", "layout": "0+2+0"}}
        for track, labels, words in (
            (bed | {"output": "hall"}, ("M+030", "M-030"), "route it to the mix first"),
            ({"placement": {"mode": "object"}}, ("M+030", "M-030"), "place it as a bed first"),
            (bed, ("M+030", "X"), "there is no loudspeaker X"),
            (bed, ("M+030", "-"), "has one channel"),
        ):
            with self.assertRaisesRegex(InputError, words):
                self.split(self.mix(2, **track), labels)
        with self.assertRaisesRegex(InputError, "no object of the mix"):
            read({"kind": "gather_into_scene", "strips": ["rain"]}).apply(self.mix(2, **bed))


class Unused(unittest.TestCase):
    def test_channels_that_are_not_used_keep_their_places(self) -> None:
        found = recorded_as("M-030 - LFE1 M+030 -")
        self.assertEqual((found.order, found.recorded), ((0, 2, 3), 5))
        self.assertEqual(recorded_as("- M-030 M+030").order, (2, 1))  # in the order of 0+2+0
        with self.assertRaises(InputError):
            recorded_as("- -")
