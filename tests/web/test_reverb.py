"""Reverb: tails told and laid over each other, and the matrix of sends."""

import re

from tests.sounds import noise
from tests.web.base import WebTest


class Reverb(WebTest):
    def setUp(self) -> None:
        super().setUp()
        for name in ("gull", "boat"):
            self.bring_in(f"{name}.wav", noise(1, 1.0))

    def shown(self, **asked: str) -> str:
        page = self.client.get(self.url("reverb:show"), asked)
        self.assertEqual(page.status_code, 200)
        return re.sub(r"\s+", " ", re.sub(r"<[^>]+>", " ", page.content.decode()))

    def with_spaces(self) -> None:
        for name, decay_s in (("Hall", 3.0), ("Cell", 0.5)):
            self.edit("flow", kind="add_bus", name=name, reverb=True)
            for path, value in (("decay_s", decay_s), ("treble_decay", 1.0)):
                strips = [name.lower()]
                self.edit("flow", kind="set", strips=strips, path=f"chain/0/{path}", value=value)

    def test_a_tail_is_told_by_octave_and_another_laid_over_it(self) -> None:
        self.assertIn("No space yet", self.shown())
        self.with_spaces()
        said = self.shown(strip="hall", other="cell")
        row = re.search(r"T30, s ([0-9. ]+) C50", said)
        assert row, said
        figures = [float(one) for one in row[1].split()]
        self.assertEqual(len(figures), 16)  # the whole and seven octaves of each
        for told, decay_s in ((figures[:8], 3.0), (figures[8:], 0.5)):
            self.assertAlmostEqual(sum(told) / 8, decay_s, delta=0.06 * decay_s)
        self.assertNotIn("nan", said)
        for strip in ("hall", "cell"):
            self.edit("flow", kind="set", strips=[strip], path="resting", value=True)
        self.assertIn("No space yet", self.shown())

    def test_sends_are_made_moved_taken_elsewhere_and_taken_away(self) -> None:
        self.assertIn("No space yet", self.shown(view="sends"))
        self.with_spaces()
        self.assertIn("Hall", self.shown(view="sends"))
        self.edit("reverb", kind="send", strips=["gull", "boat"], bus="hall", level_db=-9.0)
        self.edit("reverb", kind="set", strips=["gull"], path="sends/hall/tap", value="pre")

        def sends(strip: str) -> list[tuple[str, float, str]]:
            found = self.document().find_strip(strip)
            assert found
            return [(send.bus, send.level_db, send.tap) for send in found.sends]

        self.assertEqual(sends("gull"), [("hall", -9.0, "pre")])
        self.assertEqual(sends("boat"), [("hall", -9.0, "post")])
        self.edit("reverb", kind="remove_send", strips=["gull"], bus="hall")
        self.assertEqual(sends("gull"), [])
