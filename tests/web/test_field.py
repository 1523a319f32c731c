"""Field: places moved, turned and mirrored with their automation, in one step each; how true a layout is."""

import json
from typing import Any

import numpy as np
from django.core.files.uploadedfile import SimpleUploadedFile

from metaphon.core.spatial.layouts import LAYOUTS
from metaphon.core.spatial.localisation import localised
from metaphon.core.spatial.panning import vector_pan
from metaphon.web.mixes.models import Automation, Placement
from tests.sounds import noise
from tests.web.base import WebTest, make_user


class FieldBase(WebTest):
    def setUp(self) -> None:
        super().setUp()
        self.one, self.two, self.three = (self.bring_in(f"{name}.wav") for name in ("one", "two", "three"))
        for strip, azimuth in ((self.one, 30.0), (self.two, 170.0)):
            Placement.objects.filter(strip=strip).update(mode="object", azimuth_deg=azimuth, elevation_deg=80.0)

    def places(self) -> list[tuple[float, float]]:
        rows = Placement.objects.filter(strip__in=(self.one, self.two)).order_by("strip__pk")
        return [(row.azimuth_deg, row.elevation_deg) for row in rows]


class FieldTest(FieldBase):
    def test_the_page_shows_what_is_placed(self) -> None:
        page = self.client.get(self.url("field:show"))
        shown = json.loads(page.context["objects"])
        self.assertEqual(
            [(o["name"], o["mode"]) for o in shown], [("one", "object"), ("two", "object"), ("three", "bed")]
        )
        self.assertEqual(page.context["layout"].name, "4+7+0")
        for panner in ("vector", "projection_basic_2"):
            judged = self.client.get(self.url("field:show"), {"layout": "0+5+0", "truth": panner})
            self.assertContains(judged, "° wide</title>", count=48 * 24)
        self.assertContains(judged, '<th class="chosen">Projection 2 basic</th>', html=True)
        self.client.force_login(make_user("bob"))
        self.assertEqual(self.client.get(self.url("field:show")).status_code, 404)

    def test_several_are_moved_in_one_step_and_undone_in_one(self) -> None:
        places = {self.one.pk: [-190.0, 95.0], self.two.pk: [10.0, -20.0]}
        self.assertEqual(self.post("field:move", places=json.dumps(places)).status_code, 200)
        self.assertEqual(self.places(), [(170.0, 90.0), (10.0, -20.0)])
        self.post("undo")
        self.assertEqual(self.places(), [(30.0, 80.0), (170.0, 80.0)])

    def test_turning_keeps_the_arrangement_and_takes_paths_along(self) -> None:
        points = [{"t_s": 0.0, "value": 150.0}, {"t_s": 2.0, "value": 200.0}]
        Automation.objects.create(mix=self.mix, target=f"{self.two.ref}/placement/azimuth_deg", points=points)
        self.post("field:turn", by="30")
        self.assertEqual(self.places(), [(60.0, 80.0), (-160.0, 80.0)])
        lane = self.mix.automation.get()
        self.assertEqual([p["value"] for p in lane.points], [180.0, -130.0])  # the shorter way leads across the rear
        self.post("field:turn", how="mirror", ids=str(self.one.pk))
        self.assertEqual(self.places()[0], (-60.0, 80.0))
        self.post("field:turn", how="mirror")
        self.assertEqual([p["value"] for p in self.mix.automation.get().points], [180.0, 130.0])
        for _ in range(3):
            self.post("undo")
        self.assertEqual(self.places(), [(30.0, 80.0), (170.0, 80.0)])
        self.assertEqual(self.mix.automation.get().points, points)
        moving = self.post("field:move", places=json.dumps({self.two.pk: [0.0, 0.0]}))
        self.assertIn("moves by automation", self.said(moving))

    def test_a_recorded_path_is_kept_and_taken_away(self) -> None:
        points = [[1.0, 170.0, 80.0], [1.5, -170.0, 60.0], [2.0, -150.0, 40.0]]
        self.post("field:record", self.one.pk, points=json.dumps(points))
        lanes = {lane.target: lane.points for lane in self.mix.automation.all()}
        self.assertEqual(len(lanes), 2)
        self.assertEqual(
            lanes[f"{self.one.ref}/placement/azimuth_deg"][-1], {"t_s": 2.0, "value": -150.0, "curve": "linear"}
        )
        shown = json.loads(self.client.get(self.url("field:show")).context["objects"])
        turns = [azimuth for at, azimuth, _, _ in shown[0]["path"] if at >= 1.0]
        self.assertEqual((round(turns[0]), round(turns[-1])), (170, 210))  # across the rear by the shorter way
        self.assertContains(self.client.get(self.url("field:one", self.one.pk)), "Stand still")
        self.post("field:still", self.one.pk)
        self.assertFalse(self.mix.automation.exists())
        self.post("undo")
        self.assertEqual(self.mix.automation.count(), 2)
        for bad in ("", "[1]", "[]"):
            self.assertRegex(
                self.said(self.post("field:record", self.one.pk, points=bad)), "cannot be read|Nothing was"
            )

    def test_what_a_delivery_will_change_stays_in_view_after_an_edit(self) -> None:
        page = self.client.get(self.url("field:show") + "?profile=channels")
        self.assertContains(page, "panned into 7.1.4", count=2)
        answer = self.client.post(
            self.url("field:turn"), {"by": "10"}, headers={"HX-Request": "true", "X-Profile": "channels"}
        )
        self.assertContains(answer, "panned into 7.1.4", count=2)

    def test_one_position_said_in_two_ways(self) -> None:
        """30 degrees at ear level is the front left corner of the room; along its left wall x stays at -1."""
        Placement.objects.filter(strip=self.one).update(elevation_deg=0.0)
        shown = self.client.get(self.url("field:one", self.one.pk))
        self.assertEqual([number for _, number, _, _ in shown.context["room"]], [-1.0, 1.0, 0.0])
        self.post("field:set", self.one.pk, "y", y="-1")
        self.assertEqual(self.places()[0], (110.0, 0.0))
        self.post("field:set", self.one.pk, "z", z="1")
        self.assertEqual(self.places()[0], (110.0, 30.0))
        self.post("field:set", self.one.pk, "x", x="-0.5")
        self.post("field:set", self.one.pk, "y", y="-0.5")
        self.post("field:set", self.one.pk, "z", z="0")
        self.assertAlmostEqual(Placement.objects.get(strip=self.one).distance, 0.5)
        self.assertIn("may be", self.said(self.post("field:set", self.one.pk, "x", x="2")))
        self.assertIn("has no w", self.said(self.post("field:set", self.one.pk, "w", w="0")))

    def test_bad_input_is_one_sentence(self) -> None:
        for places in ("", "[]", "{}", '{"1": 3}', f'{{"{self.one.pk}": [1e999, 0]}}', '{"999999": [0, 0]}'):
            self.assertIn("cannot be read", self.said(self.post("field:move", places=places)))
        self.assertIn("The turn may be", self.said(self.post("field:turn", by="400")))
        Placement.objects.filter(strip__mix=self.mix).update(mode="bed")
        self.assertIn("no objects", self.said(self.post("field:turn", by="10")))


class Localised(WebTest):
    def test_published_values(self) -> None:
        """Gerzon 1992: a centre between loudspeakers at 30 degrees has |rE| = cos 30, so a spread of 60 degrees."""
        middle = localised(np.zeros(1), np.zeros(1), LAYOUTS["0+2+0"], vector_pan)
        self.assertAlmostEqual(middle.spread_deg[0], 60.0, places=4)
        self.assertAlmostEqual(middle.energy_error_deg[0], 0.0, places=4)
        at = localised(np.array([110.0, 45.0]), np.array([0.0, 30.0]), LAYOUTS["4+7+0"], vector_pan)
        self.assertAlmostEqual(at.spread_deg[1], 0.0, places=3)  # on a loudspeaker
        above = localised(np.zeros(1), np.full(1, 90.0), LAYOUTS["0+5+0"], vector_pan)
        self.assertGreater(above.energy_error_deg[0], 60.0)  # nothing hangs there
        left = localised(np.array([-15.0]), np.zeros(1), LAYOUTS["0+2+0"], vector_pan)
        self.assertAlmostEqual(left.velocity_error_deg[0], 0.0, places=4)  # what the tangent law keeps (Pulkki 1997)


class Placing(FieldBase):
    def place(self, strip: Any) -> Placement:
        return Placement.objects.get(strip=strip)

    def test_every_setting_is_set_for_one_or_all_chosen(self) -> None:
        ids = f"{self.one.pk},{self.two.pk}"
        for field, value in (
            ("extent_deg", "30"), ("extent_height_deg", "10"), ("diffuseness", "0.5"), ("importance", "3"), ("snap", "on"),
            ("travel", "on"), ("sphere_m", "4"), ("level_db_per_doubling", "6"), ("locked", "on"), ("locked", "off"),
            ("excluded", "rear"),
        ):  # fmt: skip
            self.assertEqual(
                self.post("field:set", self.one.pk, field, ids=ids, **{field: value}).status_code, 200, field
            )
        for strip in (self.one, self.two):
            row = self.place(strip)
            self.assertEqual((row.extent_deg, row.extent_height_deg, row.diffuseness, row.importance, row.snap, row.excluded),
                             (30.0, 10.0, 0.5, 3, True, ["rear"]))  # fmt: skip
        self.assertEqual(self.place(self.three).extent_deg, 0.0)
        self.post("field:set", self.one.pk, "azimuth_deg", ids=ids, azimuth_deg="40")
        self.assertEqual([row[0] for row in self.places()], [40.0, 180.0])  # positions go along
        panel = self.client.get(self.url("field:one", self.one.pk)).content.decode()
        for words in ("Air absorption", "Diffuseness", "Importance", "Stay on the sphere", "Rear"):
            self.assertIn(words, panel)

    def test_modes_are_set_for_many_and_what_is_left_out_is_said(self) -> None:
        ids = f"{self.one.pk},{self.two.pk}"
        page = self.post("field:place", ids=ids, mode="none")
        self.assertContains(page, "one is placed nowhere.")
        self.assertContains(page, "in no target")
        self.assertContains(self.client.get(self.url("handover:show")), "Without 2: one is placed nowhere.")
        self.post("field:place", ids=ids, mode="4+7+0")
        self.assertEqual((self.place(self.one).mode, self.place(self.one).layout), ("bed", "4+7+0"))
        self.assertIn("bed, object, scene or none", self.said(self.post("field:place", ids=ids, mode="wall")))
        self.assertIn("Nothing is chosen", self.said(self.post("field:place", mode="none")))

    def test_converting_reports_keeps_both_and_goes_back(self) -> None:
        Placement.objects.filter(strip=self.one).update(elevation_deg=-20.0, distance=0.5)
        answer = self.post("field:convert", ids=str(self.one.pk), to="cube", reference="4+5+0")
        self.assertContains(answer, "below the listener")
        self.assertContains(answer, "inside the room")
        row = self.place(self.one)
        self.assertEqual((row.coordinates, row.azimuth_deg, row.x), ("cube", 30.0, -0.5))
        self.assertContains(self.client.get(self.url("field:one", self.one.pk)), "0.0° from here")
        self.post("field:set", self.one.pk, "azimuth_deg", azimuth_deg="-30")  # said in angles, kept in the room
        row = self.place(self.one)
        self.assertEqual((row.x, row.y, row.azimuth_deg), (0.5, 0.5, 30.0))
        self.assertContains(self.client.get(self.url("flow:show") + "?view=table"), "−30.0")
        self.post("field:convert", ids=str(self.one.pk), to="back")
        self.assertEqual(self.place(self.one).coordinates, "sphere")
        for _ in range(3):
            self.post("undo")
        self.assertEqual((self.place(self.one).coordinates, self.place(self.one).x), ("sphere", 0.0))
        self.assertIn("Convert to angles", self.said(self.post("field:convert", to="mars")))

    def test_tilt_spread_and_the_whole_scene(self) -> None:
        Placement.objects.filter(strip=self.three).update(mode="scene")
        self.post("field:turn", how="turn_all", by="20")
        self.assertEqual((self.places()[0][0], self.place(self.three).azimuth_deg), (50.0, 20.0))
        Placement.objects.filter(strip=self.one).update(azimuth_deg=0.0, elevation_deg=0.0)
        self.post("field:turn", how="tilt", by="30", ids=str(self.one.pk))
        self.assertEqual(self.places()[0], (0.0, 30.0))
        self.post("field:set", self.one.pk, "locked", locked="on")
        self.assertIn("locked", self.said(self.post("field:move", places=json.dumps({self.one.pk: [1, 1]}))))
        self.assertIn("locked", self.said(self.post("field:set", self.one.pk, "azimuth_deg", azimuth_deg="3")))

    def test_a_layout_of_ones_own_becomes_a_target(self) -> None:
        self.post("field:add_layout", title="Gallery", table="L 30 0\nR -30 0\nB 180 20\nLFE")
        target = self.mix.targets.last()
        self.assertEqual(target.title, "Gallery")
        page = self.client.get(self.url("field:show"), {"layout": target.name, "truth": "vector"})
        self.assertEqual(page.context["layout"].labels, ("L", "R", "B", "LFE"))
        self.assertContains(self.client.get(self.url("handover:show")), "Gallery")
        self.assertIn("Line 2", self.said(self.post("field:add_layout", title="x", table="L 30 0\nR x 0")))

    def test_nonsense_is_one_sentence(self) -> None:
        for field, value, words in (
            ("extent_deg", "400", "may be 0 to 360"), ("mode", "bed", "has no mode"), ("decoder", "magic", "choose from the list"),
            ("excluded", "attic", "zone from the list"), ("x", "5", "may be -1 to 1"),
        ):  # fmt: skip
            self.assertIn(words, self.said(self.post("field:set", self.one.pk, field, **{field: value})))


class Lanes(FieldBase):
    def draw(self, parameter: str, points: object, **more: object) -> Any:
        return self.post("field:draw", self.one.pk, parameter=parameter, points=json.dumps(points), **more)

    def lane(self, parameter: str) -> list[dict[str, Any]]:
        return self.mix.automation.get(target=f"{self.one.ref}/{parameter}").points

    def test_a_lane_is_drawn_changed_and_taken_away(self) -> None:
        page = self.client.get(self.url("field:lanes", self.one.pk))
        self.assertContains(page, "May move")
        self.draw("gain_db", [[0.0, -6.0, "linear"], [0.2, -30.0, "hold"], [0.4, 0.0, "smooth"]])
        self.assertEqual([p["curve"] for p in self.lane("gain_db")], ["linear", "hold", "smooth"])
        self.draw("gain_db", [[0.1, -20.0, "linear"], [0.15, -25.0, "linear"]], into="on")
        self.assertEqual(self.lane("gain_db")[0]["value"], -6.0)
        for action, more in (
            ("stretch", {"factor": "2"}), ("scale", {"factor": "0.5", "about": "0"}), ("thin", {}),
            ("trim", {"start_s": "0", "end_s": "0.5"}),
        ):  # fmt: skip
            self.assertEqual(
                self.post("field:act", self.one.pk, parameter="gain_db", action=action, **more).status_code, 200, action
            )
        self.assertEqual((self.lane("gain_db")[0]["t_s"], self.lane("gain_db")[-1]["t_s"]), (0.0, 0.5))
        self.post("field:act", self.one.pk, parameter="gain_db", action="copy", ids=f"{self.one.pk},{self.two.pk}")
        self.assertTrue(self.mix.automation.filter(target=f"{self.two.ref}/gain_db").exists())
        self.post("field:act", self.one.pk, parameter="gain_db", action="remove")
        self.assertFalse(self.mix.automation.filter(target=f"{self.one.ref}/gain_db").exists())
        self.post("undo")
        self.assertTrue(self.mix.automation.filter(target=f"{self.one.ref}/gain_db").exists())

    def test_what_cannot_be_drawn_is_told(self) -> None:
        for parameter, points, words in (
            ("gain_db", [[0, 99, "linear"]], "goes from -120 to 12"), ("name", [[0, 0, "linear"]], "moves nothing"),
            ("gain_db", [[0, 0, "wobbly"]], "cannot be read"), ("gain_db", "x", "cannot be read"),
        ):  # fmt: skip
            self.assertIn(words, self.said(self.draw(parameter, points)))
        self.assertIn(
            "no longer there", self.said(self.post("field:act", self.one.pk, parameter="gain_db", action="thin"))
        )
        self.assertIn(
            "can be trimmed", self.said(self.post("field:act", self.one.pk, parameter="gain_db", action="fly"))
        )

    def test_lanes_of_processors_follow_their_processor(self) -> None:
        self.post("flow:add_processor", self.one.pk, kind="eq")
        self.post("flow:add_processor", self.one.pk, kind="basics")
        eq, basics = self.one.processors.all()
        self.post("flow:add_band", eq.pk, shape="bell")
        self.post("flow:add_band", eq.pk, shape="bell")
        self.draw("chain/0/bands/1/gain_db", [[0, -3, "linear"]])
        self.draw("chain/1/output_gain_db", [[0, -3, "linear"]])
        self.assertContains(self.client.get(self.url("field:lanes", self.one.pk)), "Equaliser, band 2")
        self.post("flow:act", basics.pk, "up")
        self.assertEqual(sorted(lane.target.split("/", 1)[1] for lane in self.mix.automation.all()),
                         ["chain/0/output_gain_db", "chain/1/bands/1/gain_db"])  # fmt: skip
        self.post("flow:set_band", eq.pk, 0, "remove")
        self.assertTrue(self.mix.automation.filter(target__endswith="chain/1/bands/0/gain_db").exists())
        self.post("flow:act", basics.pk, "remove")
        self.assertEqual(
            [lane.target.split("/", 1)[1] for lane in self.mix.automation.all()], ["chain/0/bands/0/gain_db"]
        )
        self.post("flow:set", self.one.pk, "inverted", inverted="on")  # a basics is put in front
        self.assertTrue(self.mix.automation.filter(target__endswith="chain/1/bands/0/gain_db").exists())

    def test_tables_and_block_formats_go_out_and_come_in(self) -> None:
        self.post("field:record", self.one.pk, points=json.dumps([[0.0, 10, 0], [0.2, 60, 10], [0.4, 120, 30]]))
        table = self.client.get(self.url("field:table", self.one.pk)).content
        blocks = self.client.get(self.url("field:blocks", self.one.pk)).content
        self.assertTrue(table.startswith(b"parameter,time_s"))
        self.assertIn(b"audioBlockFormat", blocks)
        before = {lane.target: lane.points for lane in self.mix.automation.all()}
        for name, content in (("lanes.csv", table), ("path.xml", blocks)):
            self.post("field:still", self.one.pk)
            self.post("field:bring", self.one.pk, file=SimpleUploadedFile(name, content))
            after = {lane.target: lane.points for lane in self.mix.automation.all()}
            self.assertEqual(set(after), set(before), name)
            self.assertEqual(after[f"{self.one.ref}/placement/azimuth_deg"][-1]["value"], 120.0)
        for name, content, words in (
            ("a.csv", b"x,y\n", "first line"),
            ("b.xml", b"<a", "well-formed"),
            ("c.csv", b"\xff\xfe", "no text"),
        ):
            answer = self.post("field:bring", self.one.pk, file=SimpleUploadedFile(name, content))
            self.assertIn(words, self.said(answer))
        self.assertIn("Choose a CSV", self.said(self.post("field:bring", self.one.pk)))


class Widths(WebTest):
    def test_width_is_set_in_the_table(self) -> None:
        pair = self.bring_in("pair.wav", noise(2, 0.2))
        self.assertContains(self.client.get(self.url("flow:show") + "?view=table"), "pair width")
        self.post("flow:set", pair.pk, "width", width="0.5")
        self.assertEqual(pair.processors.get().parameters["width"], 0.5)
        self.assertContains(self.client.get(self.url("flow:show") + "?view=table"), 'value="0.50"')
