"""Field: places moved, turned and mirrored with their automation, in one step each.

How true a layout is.
"""

import json
from typing import Any

import numpy as np

from metaphon.core.document.delivery_changes import changes
from metaphon.core.document.delivery_limits import NO_LIMITS
from metaphon.core.document.fold_down import FoldDown
from metaphon.core.document.lanes import lanes_of
from metaphon.core.document.targets import target_named
from metaphon.core.spatial.layouts import LAYOUTS
from metaphon.core.spatial.localisation import localised
from metaphon.core.spatial.panning import vector_pan
from tests.sounds import noise
from tests.web.base import WebTest, make_user


class FieldBase(WebTest):
    def setUp(self) -> None:
        super().setUp()
        self.one, self.two, self.three = (
            self.bring_in(f"{name}.wav") for name in ("one", "two", "three")
        )
        for strip, azimuth in ((self.one, 30.0), (self.two, 170.0)):
            away = {"mode": "object", "azimuth_deg": azimuth, "elevation_deg": 80.0}
            self.write(strip, placement=away)

    def move(self, places: object) -> Any:
        return self.edit("field", kind="move", places=places)

    def both(self, kind: str, **more: object) -> Any:
        """Do something to both objects."""
        return self.edit("field", kind=kind, strips=[self.one.ref, self.two.ref], **more)

    def alone(self, kind: str, **more: object) -> Any:
        return self.edit("field", kind=kind, strips=[self.one.ref], **more)

    def place_of(self, path: str, value: object) -> Any:
        return self.set(self.one, f"placement/{path}", value, workspace="field")

    def lanes_of(self, strip: Any) -> dict[str, list[tuple[float, float, str]]]:
        """The lanes of a strip by what they move, as breakpoints."""
        return {
            path: list(lane.points) for path, lane in lanes_of(self.document(), strip.ref).items()
        }

    def places(self) -> list[tuple[float, float]]:
        places = (self.one.placement, self.two.placement)
        return [(place.azimuth_deg, place.elevation_deg) for place in places]


class InBeds(FieldBase):
    """One channel stands somewhere in its bed, and above the ears where there are loudspeakers."""

    def fields(self, page: str, name: str) -> list[str]:
        page = self.client.get(f"/mix/{self.mix.pk}/{page}").content.decode()
        labels = (f"{name} azimuth", f"{name} elevation")
        return [label for label in labels if f'aria-label="{label}"' in page]

    def test_what_says_where_it_stands_can_be_typed_in_flow_and_field(self) -> None:
        self.bring_in("pair.wav", noise(2, 1.0))
        for layout, wanted in (("0+5+0", ["azimuth"]), ("4+7+0", ["azimuth", "elevation"])):
            self.write(self.three, placement={"mode": "bed", "layout": layout})
            for page in ("field/", "flow/?view=table"):
                self.assertEqual(self.fields(page, "three"), [f"three {one}" for one in wanted])
                self.assertEqual(self.fields(page, "pair"), [])
            lanes = self.client.get(
                self.url("lanes:show"), {"strip": self.three.ref}, headers={"HX-Request": "true"}
            ).content.decode()
            for angle in ("azimuth", "elevation"):
                self.assertEqual(f'value="placement/{angle}_deg"' in lanes, angle in wanted)
        lane = {"strip": self.three.ref, "path": "placement/azimuth_deg"}
        self.edit("field", kind="draw_lane", **lane, points=[{"t_s": 0, "value": 9.0}])
        for page in ("field/", "flow/?view=table"):  # what is typed trims the lane
            self.assertIn("three azimuth", self.fields(page, "three"))
        typed = {"kind": "set", "strips": [self.three.ref], "path": "placement/azimuth_deg"}
        self.edit("flow", **typed, value=30.0, at_s=0.5)
        [(_, value, _)] = self.lanes_of(self.three)["placement/azimuth_deg"]
        self.assertEqual(value, 30.0)
        self.assertEqual(
            self.client.get(self.url("lanes:values"), {"at": "1.5"}).json(),
            {f"{self.three.ref} placement/azimuth_deg": 30.0},
        )
        self.edit("flow", **typed, value=-30.0, write_over=True)
        self.assertNotIn("placement/azimuth_deg", self.lanes_of(self.three))


class FieldTest(FieldBase):
    def test_the_page_shows_what_is_placed(self) -> None:
        page = self.client.get(self.url("field:show"))
        shown = json.loads(page.context["objects"])
        self.assertEqual(
            [(o["name"], o["mode"]) for o in shown],
            [("one", "object"), ("two", "object"), ("three", "bed")],
        )
        self.assertEqual(page.context["layout"].name, "0+2+0")  # what the mix is made for
        for panner in ("vector", "projection"):
            judged = self.client.get(self.url("field:show"), {"layout": "0+5+0", "truth": panner})
            self.assertContains(judged, "° wide</title>", count=48 * 24)
        self.assertContains(judged, '<th class="chosen">Projection 3</th>', html=True)
        self.client.force_login(make_user("bob"))
        self.assertEqual(self.client.get(self.url("field:show")).status_code, 404)

    def test_several_are_moved_in_one_step_and_undone_in_one(self) -> None:
        places = {self.one.ref: [-190.0, 95.0], self.two.ref: [10.0, -20.0]}
        self.assertEqual(self.move(places).status_code, 200)
        self.assertEqual(self.places(), [(170.0, 90.0), (10.0, -20.0)])
        self.post("undo")
        self.assertEqual(self.places(), [(30.0, 80.0), (170.0, 80.0)])

    def test_turning_keeps_the_arrangement_and_takes_paths_along(self) -> None:
        lane = {"strip": self.two.ref, "path": "placement/azimuth_deg"}
        points = [{"t_s": 0.0, "value": 150.0}, {"t_s": 2.0, "value": -160.0}]
        self.edit("field", kind="draw_lane", points=points, **lane)
        self.both("turn", by_deg=30)
        self.assertEqual(self.places(), [(60.0, 80.0), (-160.0, 80.0)])
        values = lambda: [value for _, value, _ in self.lanes_of(self.two)["placement/azimuth_deg"]]  # noqa: E731
        self.assertEqual(values(), [180.0, -130.0])  # the shorter way leads across the rear
        self.alone("mirror")
        self.assertEqual(self.places()[0], (-60.0, 80.0))
        self.both("mirror")
        self.assertEqual(values(), [180.0, 130.0])
        for _ in range(3):
            self.post("undo")
        self.assertEqual(self.places(), [(30.0, 80.0), (170.0, 80.0)])
        self.assertEqual(values(), [150.0, -160.0])
        self.assertEqual(self.move({self.two.ref: [0.0, 0.0]}).status_code, 200)
        self.assertEqual(values(), [0.0, 50.0])  # the whole path goes along

    def test_a_recorded_path_is_kept_and_taken_away(self) -> None:
        points = [[1.0, 170.0, 80.0], [1.5, -170.0, 60.0], [2.0, -150.0, 40.0]]
        self.edit("field", kind="record_path", strip=self.one.ref, points=points)
        lanes = self.lanes_of(self.one)
        self.assertEqual(len(lanes), 2)
        self.assertEqual(lanes["placement/azimuth_deg"][-1], (2.0, -150.0, "linear"))
        shown = json.loads(self.client.get(self.url("field:show")).context["objects"])
        turns = [azimuth for at, azimuth, _, _ in shown[0]["path"] if at >= 1.0]
        self.assertEqual(
            (round(turns[0]), round(turns[-1])), (170, 210)
        )  # across the rear by the shorter way
        self.assertContains(self.fragment("field:one", self.one.ref), "Stand still")
        self.edit("field", kind="stand_still", strip=self.one.ref)
        self.assertFalse(self.document().automation)
        self.post("undo")
        self.assertEqual(len(self.document().automation), 2)
        for bad, words in (
            ("", "Points"),
            ([1], "Points"),
            ([], "Nothing was recorded"),
            ([[0, 1, 2]], "Nothing was"),
        ):
            answer = self.edit("field", kind="record_path", strip=self.one.ref, points=bad)
            self.assertIn(words, self.said(answer))

    def test_what_a_delivery_will_change_stays_in_view_after_an_edit(self) -> None:
        page = self.client.get(self.url("field:show"))
        self.assertEqual(page.context["delivery"].limits, NO_LIMITS)
        [channels] = [o for o in page.context["deliveries"] if o.limits.most_objects == 0]
        chosen = {"delivery": channels.key, "query": "layout=0%2B5%2B0"}
        answer = self.client.post(self.url("field:choose_delivery"), chosen)
        self.assertEqual(answer["Location"], self.url("field:show") + "?layout=0%2B5%2B0")
        self.assertContains(self.client.get(answer["Location"]), "panned into 7.1.4", count=2)
        answer = self.edit("field", kind="turn", strips=[self.one.ref], by_deg=10)
        self.assertContains(answer, "panned into 7.1.4", count=2)
        self.post("undo")
        self.assertEqual(self.document().delivery, channels.limits)
        self.post("undo")
        self.assertEqual(self.document().delivery, NO_LIMITS)
        gone = self.post("field:choose_delivery", delivery="own 999")
        self.assertEqual(gone.status_code, 422)

    def test_the_fold_down_is_a_table_that_can_be_changed(self) -> None:
        page = self.client.get(self.url("field:show")).content.decode()
        self.assertIn("M+030 −3.0", page)
        answer = self.edit("field", kind="set_fold_down", path="surround_db", value="-6")
        self.assertContains(answer, "M+030 −6.0")
        self.edit("field", kind="set_fold_down", path="lfe_db", value=-10.0)
        self.assertEqual(self.document().fold_down, FoldDown(surround_db=-6.0, lfe_db=-10.0))
        said = self.said(self.edit("field", kind="set_fold_down", path="lfe_db", value=40.0))
        self.assertIn("may be -60 to 10 dB", said)
        self.edit("field", kind="reset_fold_down")
        self.assertEqual(self.document().fold_down, FoldDown())
        self.post("undo")
        self.assertEqual(self.document().fold_down, FoldDown(surround_db=-6.0, lfe_db=-10.0))

    def test_one_position_said_in_two_ways(self) -> None:
        """30 degrees at ear level is the front left corner of the room.

        Along its left wall x stays at -1.
        """
        self.write(self.one, placement={"elevation_deg": 0.0})
        shown = self.fragment("field:one", self.one.ref)
        self.assertEqual([number for _, number, _ in shown.context["room"]], [-1.0, 1.0, 0.0])
        self.place_of("y", "-1")
        self.assertEqual(self.places()[0], (110.0, 0.0))
        self.place_of("z", "1")
        self.assertEqual(self.places()[0], (110.0, 30.0))
        self.place_of("x", "-0.5")
        self.place_of("y", "-0.5")
        self.place_of("z", "0")
        self.assertAlmostEqual(self.one.placement.distance, 0.5)
        self.assertIn("may be", self.said(self.place_of("x", "2")))
        self.assertIn("no value placement/w", self.said(self.place_of("w", "0")))

    def test_bad_input_is_one_sentence(self) -> None:
        for places in ("", [], {}, {"1": 3}, {self.one.ref: [float("inf"), 0]}):
            self.assertIn("Places", self.said(self.move(places)))
        self.assertIn("no longer in the mix", self.said(self.move({"nobody": [0, 0]})))
        self.assertIn("cannot be read", self.said(self.post("field:edit", command="{")))
        self.assertIn("no command 'fly'", self.said(self.edit("field", kind="fly")))
        self.assertIn("By may be -180 to 180", self.said(self.both("turn", by_deg=400)))
        for strip in (self.one, self.two, self.three):
            self.write(strip, placement={"mode": "bed"})
        self.assertIn(
            "nothing is chosen", self.said(self.edit("field", kind="turn", strips=[], by_deg=10))
        )


class Localised(WebTest):
    def test_published_values(self) -> None:
        """Gerzon 1992.

        A centre between loudspeakers at 30 degrees has |rE| = cos 30, so a spread of 60 degrees.
        """
        middle = localised(np.zeros(1), np.zeros(1), LAYOUTS["0+2+0"], vector_pan)
        self.assertAlmostEqual(middle.spread_deg[0], 60.0, places=4)
        self.assertAlmostEqual(middle.energy_error_deg[0], 0.0, places=4)
        at = localised(np.array([110.0, 45.0]), np.array([0.0, 30.0]), LAYOUTS["4+7+0"], vector_pan)
        self.assertAlmostEqual(at.spread_deg[1], 0.0, places=3)  # on a loudspeaker
        above = localised(np.zeros(1), np.full(1, 90.0), LAYOUTS["0+5+0"], vector_pan)
        self.assertGreater(above.energy_error_deg[0], 60.0)  # nothing hangs there
        left = localised(np.array([-15.0]), np.zeros(1), LAYOUTS["0+2+0"], vector_pan)
        self.assertAlmostEqual(
            left.velocity_error_deg[0], 0.0, places=4
        )  # what the tangent law keeps (Pulkki 1997)


class Placing(FieldBase):
    def place(self, strip: Any) -> Any:
        return strip.placement

    def test_every_setting_is_set_for_one_or_all_chosen(self) -> None:
        for field, value in (
            ("extent_deg", "30"),
            ("extent_height_deg", "10"),
            ("diffuseness", "0.5"),
            ("importance", "3"),
            ("snap", "on"),
            ("travel", "on"),
            ("sphere_m", "4"),
            ("level_db_per_doubling", "6"),
            ("locked", "on"),
            ("locked", "off"),
        ):
            answer = self.set(
                self.one, f"placement/{field}", value, also=[self.two], workspace="field"
            )
            self.assertEqual(answer.status_code, 200, field)
        self.both("toggle", path="placement/excluded", item="rear")
        for strip in (self.one, self.two):
            row = self.place(strip)
            self.assertEqual(
                (
                    row.extent_deg,
                    row.extent_height_deg,
                    row.diffuseness,
                    row.importance,
                    row.snap,
                    row.excluded,
                ),
                (30.0, 10.0, 0.5, 3, True, ("rear",)),
            )
        self.assertEqual(self.place(self.three).extent_deg, 0.0)
        self.set(self.one, "placement/azimuth_deg", "40", also=[self.two], workspace="field")
        self.assertEqual([row[0] for row in self.places()], [40.0, 180.0])  # positions go along
        panel = self.fragment("field:one", self.one.ref).content.decode()
        for words in ("Air absorption", "Diffuseness", "Importance", "Stay on the sphere", "Rear"):
            self.assertIn(words, panel)

    def test_deliveries_of_ones_own_are_kept_changed_and_forgotten(self) -> None:
        data = {"title": "Dome tour", "most_objects": "1", "bed": "4+7+0", "extent": "on"}
        answer = self.client.post(self.url("field:keep_delivery"), data)
        page = self.client.get(answer["Location"])
        self.assertContains(page, "Dome tour")
        limits = page.context["delivery"].limits
        self.assertEqual((limits.most_objects, limits.bed, limits.extent), (1, "4+7+0", True))
        self.both("place", mode="object")
        page = self.client.get(answer["Location"])
        changed = {row.strip.id for row in page.context["rows"] if row.changes}
        self.assertEqual(changed, set(changes(self.document(), limits)))
        self.assertTrue(changed)
        self.client.post(self.url("field:keep_delivery"), {**data, "most_objects": ""})
        [kept] = self.user.own_limits.all()
        self.assertIsNone(kept.most_objects)
        for bad in ({"title": ""}, {**data, "most_objects": "-3"}):
            self.assertEqual(self.post("field:keep_delivery", **bad).status_code, 422)
        self.client.post(self.url("field:keep_delivery"), {"forget": kept.pk})
        self.assertFalse(self.user.own_limits.exists())

    def test_how_truly_is_asked_in_parts(self) -> None:
        page = self.client.get(
            self.url("field:show"), {"truth": "allrad", "order": "5", "weighting": "basic"}
        )
        self.assertEqual(page.context["judged"].panner, "allrad_basic_5")
        self.assertContains(page, 'name="weighting"')
        plain = self.client.get(self.url("field:show"), {"truth": "vector", "order": "5"})
        self.assertNotContains(plain, 'name="weighting"')
        odd = self.client.get(self.url("field:show"), {"truth": "walrus", "order": "99"})
        self.assertEqual(odd.context["judged"].panner, "")

    def test_modes_are_set_for_many_and_what_is_left_out_is_said(self) -> None:
        page = self.both("place", mode="none")
        self.assertContains(page, "one is placed nowhere; place it", 1)
        self.assertContains(page, "in no target")
        self.assertContains(self.client.get(self.url("handover:show")), "one is placed nowhere;", 1)
        self.both("place", mode="4+7+0")
        self.assertEqual((self.place(self.one).mode, self.place(self.one).layout), ("bed", "4+7+0"))
        self.assertIn("bed, object, scene or none", self.said(self.both("place", mode="wall")))
        self.assertIn(
            "nothing is chosen", self.said(self.edit("field", kind="place", strips=[], mode="none"))
        )

    def test_converting_reports_keeps_both_and_goes_back(self) -> None:
        self.write(self.one, placement={"elevation_deg": -20.0, "distance": 0.5})
        answer = self.alone("convert", to="cube", reference="4+5+0")
        self.assertContains(answer, "below the listener")
        self.assertContains(answer, "inside the room")
        row = self.place(self.one)
        self.assertEqual((row.coordinates, row.azimuth_deg, row.x), ("cube", 30.0, -0.5))
        self.assertContains(self.fragment("field:one", self.one.ref), "0.0° from here")
        self.place_of("azimuth_deg", "-30")  # said in angles, kept in the room
        row = self.place(self.one)
        self.assertEqual((row.x, row.y, row.azimuth_deg), (0.5, 0.5, 30.0))
        self.assertContains(self.client.get(self.url("flow:show") + "?view=table"), "−30.0")
        self.alone("use_kept_form")
        self.assertEqual(self.place(self.one).coordinates, "sphere")
        for _ in range(3):
            self.post("undo")
        self.assertEqual(
            (self.place(self.one).coordinates, self.place(self.one).x), ("sphere", 0.0)
        )
        self.assertIn("choose one of sphere, cube", self.said(self.alone("convert", to="mars")))

    def test_tilt_spread_and_the_whole_scene(self) -> None:
        self.write(self.three, placement={"mode": "scene"})
        self.edit(
            "field",
            kind="turn",
            strips=[s.ref for s in (self.one, self.two, self.three)],
            by_deg=20,
        )
        self.assertEqual((self.places()[0][0], self.place(self.three).azimuth_deg), (50.0, 20.0))
        self.write(self.one, placement={"azimuth_deg": 0.0, "elevation_deg": 0.0})
        self.alone("tilt", pitch_deg=30)
        self.assertEqual(self.places()[0], (0.0, 30.0))
        self.place_of("locked", True)
        self.assertIn("locked", self.said(self.move({self.one.ref: [1, 1]})))
        self.assertIn("locked", self.said(self.place_of("azimuth_deg", "3")))

    def test_a_layout_of_ones_own_becomes_a_target(self) -> None:
        self.post("field:add_layout", title="Gallery", table="L 30 0\nR -30 0\nB 180 20\nLFE")
        target = target_named(self.document().targets[-1])
        self.assertEqual(target.title, "Gallery")
        page = self.client.get(self.url("field:show"), {"layout": target.name, "truth": "vector"})
        self.assertEqual(page.context["layout"].labels, ("L", "R", "B", "LFE"))
        self.assertContains(self.client.get(self.url("handover:show")), "Gallery")
        self.assertIn(
            "Line 2", self.said(self.post("field:add_layout", title="x", table="L 30 0\nR x 0"))
        )

    def test_nonsense_is_one_sentence(self) -> None:
        for field, value, words in (
            ("extent_deg", "400", "may be 0 to 360"),
            ("mode", "bed", "no value placement/mode"),
            ("decoder", "magic", "choose from the list"),
            ("x", "5", "may be -1 to 1"),
            ("snap", "perhaps", "on or off"),
        ):
            self.assertIn(words, self.said(self.place_of(field, value)))
        answer = self.alone("toggle", path="placement/excluded", item="attic")
        self.assertIn("Choose a zone", self.said(answer))


class Widths(WebTest):
    def test_width_is_set_in_the_table(self) -> None:
        pair = self.bring_in("pair.wav", noise(2, 0.2))
        self.assertContains(self.client.get(self.url("flow:show") + "?view=table"), "pair width")
        self.set(pair, "basics/width", "0.5")
        self.assertEqual(pair.chain[0].width, 0.5)
        self.assertContains(self.client.get(self.url("flow:show") + "?view=table"), 'value="0.50"')
