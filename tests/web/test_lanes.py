"""Lanes: drawn, changed and taken away; as tables and block formats; in a drawer of their own."""

import json
from typing import Any

from django.core.files.uploadedfile import SimpleUploadedFile

from metaphon.core.document.lanes import lanes_of
from tests.web.base import WebTest, make_user


class Lanes(WebTest):
    def setUp(self) -> None:
        super().setUp()
        self.one, self.two = (self.bring_in(f"{name}.wav") for name in ("one", "two"))
        self.write(self.one, placement={"mode": "object", "azimuth_deg": 30.0})

    def lanes_of(self, strip: Any) -> dict[str, list[tuple[float, float, str]]]:
        """The lanes of a strip by what they move, as breakpoints."""
        return {
            path: list(lane.points) for path, lane in lanes_of(self.document(), strip.ref).items()
        }

    def lanes(self, **asked: str) -> Any:
        query = {"strip": self.one.ref, **asked}
        return self.client.get(self.url("lanes:show"), query, headers={"HX-Request": "true"})

    def on(self, kind: str, path: str = "gain_db", **more: object) -> Any:
        return self.edit("field", kind=kind, strip=self.one.ref, path=path, **more)

    def draw(self, path: str, *points: tuple[object, ...], **more: object) -> Any:
        made = [dict(zip(("t_s", "value", "curve"), point, strict=False)) for point in points]
        return self.on("draw_lane", path, points=made, **more)

    def lane(self, path: str) -> list[tuple[float, float, str]]:
        return self.lanes_of(self.one)[path]

    def test_a_lane_is_drawn_changed_and_taken_away(self) -> None:
        page = self.lanes()
        self.assertContains(page, "May move")
        self.draw("gain_db", (0.0, -6.0, "linear"), (0.2, -30.0, "hold"), (0.4, 0.0, "smooth"))
        self.assertEqual(
            [curve for _, _, curve in self.lane("gain_db")], ["linear", "hold", "smooth"]
        )
        self.draw("gain_db", (0.1, -20.0), (0.15, -25.0), into=True)
        self.assertEqual(self.lane("gain_db")[0][1], -6.0)
        for action, more in (
            ("stretch_lane", {"factor": 2}),
            ("scale_lane", {"factor": 0.5, "about": 0}),
            ("thin_lane", {}),
            ("trim_lane", {"start_s": 0, "end_s": 0.5}),
        ):
            self.assertEqual(self.on(action, **more).status_code, 200, action)
        self.assertEqual((self.lane("gain_db")[0][0], self.lane("gain_db")[-1][0]), (0.0, 0.5))
        self.on("copy_lane", to=[self.one.ref, self.two.ref])
        self.assertIn("gain_db", self.lanes_of(self.two))
        self.on("set_breakpoint", place=0, t_s=0.01, value=-7.5)
        self.assertEqual(self.lane("gain_db")[0], (0.01, -7.5, "linear"))
        self.on("remove_lane")
        self.assertNotIn("gain_db", self.lanes_of(self.one))
        self.post("undo")
        self.assertIn("gain_db", self.lanes_of(self.one))

    def test_what_cannot_be_drawn_is_told(self) -> None:
        for path, point, words in (
            ("gain_db", (0, 99), "goes from -120 to 12"),
            ("name", (0, 0), "moves nothing"),
            ("gain_db", (0, 0, "wobbly"), "each breakpoint is"),
            ("gain_db", (0, "x"), "each breakpoint is"),
        ):
            self.assertIn(words, self.said(self.draw(path, point)))
        self.assertIn("no longer there", self.said(self.on("thin_lane")))
        self.assertIn("Start may be", self.said(self.on("trim_lane", start_s=-1, end_s=2)))
        self.assertIn("before the start", self.said(self.on("trim_lane", start_s=3, end_s=2)))

    def test_lanes_of_processors_follow_their_processor(self) -> None:
        self.edit("flow", kind="add_processor", strip=self.one.ref, processor="eq")
        self.edit("flow", kind="add_processor", strip=self.one.ref, processor="basics")
        chain = {"strip": self.one.ref, "place": 0}
        self.edit("flow", kind="add_band", shape="bell", **chain)
        self.edit("flow", kind="add_band", shape="bell", **chain)
        self.draw("chain/0/bands/1/gain_db", (0, -3))
        self.draw("chain/1/output_gain_db", (0, -3))
        self.assertContains(self.lanes(), "Equaliser, band 2")
        self.edit("flow", kind="move_processor", strip=self.one.ref, place=1, to=0)
        self.assertEqual(
            sorted(lane.target.split("/", 1)[1] for lane in self.document().automation),
            ["chain/0/output_gain_db", "chain/1/bands/1/gain_db"],
        )
        self.edit("flow", kind="remove_band", strip=self.one.ref, place=1, band=0)
        self.assertTrue("chain/1/bands/0/gain_db" in self.lanes_of(self.one))
        self.edit("flow", kind="remove_processor", **chain)
        self.assertEqual(
            [lane.target.split("/", 1)[1] for lane in self.document().automation],
            ["chain/0/bands/0/gain_db"],
        )
        self.set(self.one, "basics/polarity_inverted", "on")  # a basics is put in front
        self.assertTrue("chain/1/bands/0/gain_db" in self.lanes_of(self.one))

    def test_tables_and_block_formats_go_out_and_come_in(self) -> None:
        points = [[0.0, 10, 0], [0.2, 60, 10], [0.4, 120, 30]]
        self.edit("field", kind="record_path", strip=self.one.ref, points=points)
        table = self.client.get(self.url("lanes:table", self.one.ref)).content
        blocks = self.client.get(self.url("lanes:blocks", self.one.ref)).content
        self.assertTrue(table.startswith(b"parameter,time_s"))
        self.assertIn(b"audioBlockFormat", blocks)
        before = self.lanes_of(self.one)
        for name, content in (("lanes.csv", table), ("path.xml", blocks)):
            self.edit("field", kind="stand_still", strip=self.one.ref)
            self.post("lanes:bring", self.one.ref, file=SimpleUploadedFile(name, content))
            after = self.lanes_of(self.one)
            self.assertEqual(set(after), set(before), name)
            self.assertEqual(after["placement/azimuth_deg"][-1][1], 120.0)
        for name, content, words in (
            ("a.csv", b"x,y\n", "first line"),
            ("b.xml", b"<a", "well-formed"),
            ("c.csv", b"\xff\xfe", "no text"),
        ):
            answer = self.post("lanes:bring", self.one.ref, file=SimpleUploadedFile(name, content))
            self.assertIn(words, self.said(answer))
        self.assertIn("Choose a CSV", self.said(self.post("lanes:bring", self.one.ref)))

    def test_the_drawer_shows_the_recording_and_answers_its_own_edits(self) -> None:
        self.assertNotContains(self.lanes(), 'class="wave"')
        drawn = self.lanes(wave="1", parameter="gain_db")
        self.assertContains(drawn, 'class="wave"')
        self.assertContains(drawn, "lanes/edit?strip=one&amp;parameter=gain_db&amp;wave=1")
        command = {"kind": "move_phrase", "strip": "one", "path": "gain_db", "value": -9.0}
        address = self.url("lanes:edit") + "?strip=one&parameter=gain_db&wave=1"
        for times, told in (((0.05, 0.15), "mix-edited, mix-changed"), ((0.1, 0.15), "mix-edited")):
            made = {**command, "start_s": times[0], "end_s": times[1], "ramp_s": 0.01}
            answer = self.client.post(
                address, {"command": json.dumps(made)}, headers={"HX-Request": "true"}
            )
            self.assertContains(answer, "-9.0, &quot;linear&quot;]")
            self.assertEqual(answer["HX-Trigger"], told)  # a new lane changes the workspace too
        self.assertContains(self.lanes(strip="gone"), "one")
        self.edit("flow", kind="add_processor", strip="one", processor="resonator")
        for parameter, seen in (("frequency_hz", "true"), ("emphasis_db", "false")):
            lane = self.lanes(parameter=f"chain/0/{parameter}")
            self.assertContains(lane, f"&quot;log&quot;: {seen}")  # frequencies by octaves
        self.client.force_login(make_user("bob"))
        self.assertEqual(self.lanes().status_code, 404)
