"""Many strips placed at once, new tracks placed as the mix is made."""

from math import atan2, degrees

from metaphon.core.document.mix_layout import layout_of_mix
from metaphon.core.document.named_directions import read_direction
from metaphon.core.document.targets import BUS_FORMATS
from metaphon.core.edits.command import apply
from metaphon.core.edits.registry import read
from metaphon.core.engine.plan import compile
from metaphon.core.errors import InputError
from metaphon.core.spatial.layouts import LAYOUTS
from tests.sounds import FolderTest, noise


class Placing(FolderTest):
    def setUp(self) -> None:
        super().setUp()
        self.write("a.wav", noise(1, 0.1))
        self.names = ("Choir left", "Choir right", "Choir C", "Room Ls", "Top rear R", "Gull")
        self.start = self.mix(
            [
                {"id": f"t{n}", "name": name, "sound": "a.wav", "placement": {"mode": "object"}}
                for n, name in enumerate(self.names)
            ]
        )
        self.ids = [track.id for track in self.start.tracks]

    def placed(self, shape: str, ids: list[str]) -> list[tuple[float, float, float]]:
        mix = apply(self.start, read({"kind": "place_in_shape", "strips": ids, "shape": shape}))
        found = {track.id: track.placement for track in mix.tracks}
        return [
            (found[i].azimuth_deg, found[i].elevation_deg, found[i].distance) for i in sorted(ids)
        ]

    def test_in_a_fan_a_circle_and_a_line(self) -> None:
        four = self.ids[3::-1]  # the order of the mix counts, not that of the choice
        self.assertEqual([a for a, _, _ in self.placed("fan", four)], [60.0, 20.0, -20.0, -60.0])
        self.assertEqual([a for a, _, _ in self.placed("circle", four)], [0.0, 90.0, 180.0, -90.0])
        for (azimuth, elevation, distance), x in zip(
            self.placed("line", four), (-1.0, -1 / 3, 1 / 3, 1.0), strict=True
        ):
            self.assertAlmostEqual(azimuth, degrees(atan2(-x, 1.0)), delta=0.01)
            self.assertAlmostEqual(distance, (x * x + 1.0) ** 0.5, delta=0.001)
            self.assertEqual(elevation, 0.0)
        for shape in ("fan", "line"):
            self.assertEqual(self.placed(shape, self.ids[:1])[0][0], 0.0)

    def test_by_their_names(self) -> None:
        """The sectors that ITU-R BS.2051-3 gives the loudspeakers of these names."""
        found = self.placed("names", self.ids)
        self.assertEqual([a for a, _, _ in found], [30.0, -30.0, 0.0, 110.0, -135.0, 0.0])
        self.assertEqual([e for _, e, _ in found], [0.0, 0.0, 0.0, 0.0, 45.0, 0.0])
        with self.assertRaisesRegex(InputError, "tells a direction"):
            self.placed("names", self.ids[-1:])
        for name in ("Gull", "Lower drum", "Left and right", "Ukulele", ""):
            self.assertIsNone(read_direction(name), name)

    def test_a_locked_one_is_refused(self) -> None:
        held = {"kind": "set", "strips": ["t1"], "path": "placement/locked", "value": True}
        self.start = apply(self.start, read(held))
        with self.assertRaisesRegex(InputError, "locked"):
            self.placed("fan", self.ids)

    def test_a_bus_of_every_layout_that_beds_have(self) -> None:
        beds = {name for name, layout in LAYOUTS.items() if layout.channels > 1}
        self.assertLessEqual(beds, set(BUS_FORMATS))
        for layout in BUS_FORMATS:
            made = {"kind": "add_bus", "name": "All", "layout": layout, "strips": self.ids[:2]}
            mix = apply(self.start, read(made))
            [bus] = mix.buses
            self.assertEqual(bus.layout, layout)
            self.assertEqual([t.output for t in mix.tracks], [bus.id] * 2 + ["programme"] * 4)
            if layout in beds:
                self.assertEqual(bus.placement.layout, layout)
            compile(mix)

    def test_a_new_bus_is_as_wide_as_the_mix_and_feeds_what_the_chosen_fed(self) -> None:
        for targets, wanted in (
            (("0+2+0", "binaural"), "0+2+0"),
            (("0+2+0", "4+7+0", "scene3"), "4+7+0"),
            (("binaural",), "0+5+0"),
        ):
            self.start = self.start.model_copy(update={"targets": targets})
            self.assertEqual(layout_of_mix(self.start), wanted)
            mix = apply(self.start, read({"kind": "add_bus", "strips": ["t0"]}))
            mix = apply(mix, read({"kind": "add_bus", "strips": ["t0"]}))
            first, second = mix.buses
            self.assertEqual((first.name, second.name), ("Bus", "Bus 2"))
            self.assertEqual((first.layout, first.output), (wanted, "programme"))
            self.assertEqual(second.output, first.id)  # nothing is heard otherwise
            self.assertEqual(mix.tracks[0].output, second.id)

    def test_a_chain_is_added_or_put_in_place_of_another(self) -> None:
        mix = self.start
        for strip, kind in (("t0", "eq"), ("t1", "basics"), ("t1", "limiter")):
            mix = apply(mix, read({"kind": "add_processor", "strip": strip, "processor": kind}))
        points = [{"t_s": 0.0, "value": 1.0}, {"t_s": 0.1, "value": 2.0}]
        lane = {"strip": "t1", "path": "chain/0/delay_ms", "points": points}
        mix = apply(mix, read({"kind": "draw_lane", **lane}))
        copied = {"kind": "copy_processors", "strip": "t0", "to": ["t1", "t2"]}
        for replaces, wanted in ((False, ["basics", "limiter", "eq"]), (True, ["eq"])):
            after = apply(mix, read({**copied, "replace": replaces}))
            chains = [[one.kind for one in track.chain] for track in after.tracks[1:3]]
            self.assertEqual(chains, [wanted, ["eq"]])
            self.assertEqual(len(after.automation), 0 if replaces else 1)
