"""Field: places moved, turned and mirrored with their automation, in one step each; how true a layout is."""

import json

import numpy as np

from metaphon.core.spatial.layouts import LAYOUTS
from metaphon.core.spatial.localisation import localised
from metaphon.core.spatial.panning import vector_pan
from metaphon.web.mixes.models import Automation, Placement
from tests.web.base import WebTest, make_user


class FieldTest(WebTest):
    def setUp(self) -> None:
        super().setUp()
        self.one, self.two, self.three = (self.bring_in(f"{name}.wav") for name in ("one", "two", "three"))
        for strip, azimuth in ((self.one, 30.0), (self.two, 170.0)):
            Placement.objects.filter(strip=strip).update(mode="object", azimuth_deg=azimuth, elevation_deg=80.0)

    def places(self) -> list[tuple[float, float]]:
        rows = Placement.objects.filter(strip__in=(self.one, self.two)).order_by("strip__pk")
        return [(row.azimuth_deg, row.elevation_deg) for row in rows]

    def test_the_page_shows_what_is_placed(self) -> None:
        page = self.client.get(self.url("field:show"))
        shown = json.loads(page.context["objects"])
        self.assertEqual(
            [(o["name"], o["mode"]) for o in shown], [("one", "object"), ("two", "object"), ("three", "bed")]
        )
        self.assertEqual(page.context["layout"].name, "4+7+0")
        self.assertContains(
            self.client.get(self.url("field:show") + "?layout=0%2B5%2B0&truth=vector"), 'class="tile', count=48 * 24
        )
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
