"""The difference between two mixes: of frozen trees and of plain data, what fits, what meets."""

import json
import random
from pathlib import Path
from typing import Any

from metaphon.core.document.difference import (
    Change,
    Leaf,
    find_conflict,
    find_difference,
    inverted,
    with_changes,
    with_changes_that_fit,
)
from metaphon.core.document.mix import Mix
from metaphon.core.edits.command import apply
from metaphon.core.edits.registry import read
from metaphon.core.errors import InputError
from metaphon.core.kept_form import AS_THEY_ARE, KeptForm
from tests.core.test_edits import ALL, EditTest

GAIN = ("tracks", "gull", "gain_db")


class Differences(EditTest):
    def setUp(self) -> None:
        super().setUp()
        self.form = KeptForm(lambda path: path.name, lambda name: self.folder / name)

    def plain(self, mix: Mix) -> Any:
        """A mix as a file would have it, its lanes as single values."""
        told = AS_THEY_ARE.dump(mix)
        for lane in told["automation"]:
            lane["points"] = Leaf(lane["points"])
        return told

    def edited(self, *commands: dict[str, Any]) -> Mix:
        mix = self.start
        for data in commands:
            mix = apply(mix, read(self.command(data)))
        return mix

    def test_plain_data_differs_as_the_mix_does(self) -> None:
        for seed in range(3):
            dice, mix, plain = random.Random(seed), self.start, self.plain(self.start)
            for data in dice.sample(ALL, 30):
                try:
                    before, mix = mix, apply(mix, read(self.command(data)))
                except InputError:
                    continue
                before_plain, plain = plain, self.plain(mix)
                changes = json.loads(
                    json.dumps([c.plain() for c in find_difference(before_plain, plain)])
                )
                made = with_changes(before, [Change.of(one) for one in changes])
                self.assertEqual(made, mix, data)

    def test_files_are_told_by_their_names(self) -> None:
        after = self.edited({"kind": "copy_clip", "strip": "gull", "place": 0, "start_s": 9.0})
        [change] = find_difference(self.start, after, self.form)
        self.assertEqual([clip["file"] for clip in change.after], ["one.wav"])
        self.assertEqual(with_changes(self.start, [change], self.form), after)
        self.assertEqual(after.tracks[0].clips[1].file, Path(self.folder / "one.wav"))

    def test_a_part_comes_back_to_its_place_among_others_that_have_come_since(self) -> None:
        without = self.edited({"kind": "remove_strip", "strip": "boat"})
        back = inverted(find_difference(self.start, without))
        more = apply(without, read({"kind": "add_bus", "name": "New"}))
        made = with_changes(more, back)
        self.assertEqual(made.tracks, self.start.tracks)
        self.assertEqual(made.buses[-1].id, "new")

    def test_what_is_otherwise_or_gone_is_refused_in_a_sentence(self) -> None:
        for change, words in (
            (Change(GAIN, 5.0, 6.0), "somebody has made its like"),
            (Change(("tracks", "crow", "gain_db"), 0.0, 6.0), "no longer in the mix"),
            (Change(("tracks", "pair", "chain", 9, "width"), 1.0, 0.0), "no longer in the mix"),
            (Change(("tracks", "crow"), {}, None, "part"), "no longer in the mix"),
            (Change(("tracks", "pair", "chain"), [{"kind": "eq"}] * 9, [], "stretch"), "its like"),
            (Change(GAIN, -3.0, 99.0), "somebody has made its like"),
        ):
            with self.assertRaisesRegex(InputError, words, msg=change):
                with_changes(self.start, [change])

    def test_a_value_that_was_not_told_then_counts_for_nothing(self) -> None:
        """A processor written down before it had a value goes as one that has it."""
        [pair] = [track for track in self.start.tracks if track.id == "pair"]
        held = AS_THEY_ARE.dump(pair.chain[0])
        told = {name: value for name, value in held.items() if name != "bypassed"}
        made = with_changes(
            self.start, [Change(("tracks", "pair", "chain"), [told], [], "stretch")]
        ).find_strip("pair")
        assert made
        self.assertEqual(made.chain, pair.chain[1:])

    def test_what_leads_to_what_is_gone_goes_too(self) -> None:
        rooms = [bus.id for bus in self.start.buses]
        gone = [
            Change(("buses", bus.id), self.form.dump(bus), None, "part") for bus in self.start.buses
        ]
        with self.assertRaises(InputError):
            with_changes(self.start, gone, self.form)
        made = with_changes_that_fit(self.start, gone, self.form)
        self.assertFalse(made.buses or any(strip.sends for strip in made.strips))
        self.assertFalse([lane for lane in made.automation if lane.target.split("/")[0] in rooms])

    def test_what_two_hands_do_meets_where_it_should(self) -> None:
        chain, lane = ("tracks", "pair", "chain"), ("automation", "gull/gain_db", "points")
        gain = Change(GAIN, 0.0, 1.0)
        cases: tuple[tuple[Change, Change, str], ...] = (
            (gain, Change(GAIN, 0.0, 2.0), "value"),
            (gain, Change(("tracks", "gull", "muted"), False, True), "none"),
            (gain, Change(("tracks", "boat", "gain_db"), 0.0, 2.0), "none"),
            (gain, Change(("tracks", "gull"), {}, None, "part"), "structure"),
            (gain, Change(("tracks",), ["a", "b"], ["b", "a"], "order"), "none"),
            (Change(("tracks",), ["a"], ["a"], "order"),) * 2 + ("value",),
            (
                Change((*chain, 0, "width"), 1.0, 0.0),
                Change((*chain, 0, "delay_ms"), 0.0, 1.0),
                "none",
            ),
            (
                Change((*chain, 1, "width"), 1.0, 0.0),
                Change(chain, [], [{}], "stretch"),
                "structure",
            ),
            (Change(chain, [], [{}], "stretch"), Change(chain, [], [{}], "stretch"), "structure"),
            (Change(lane, {"t_s": "a"}, {"t_s": "b"}),) * 2 + ("value",),
            (Change(GAIN, 0.0, None), Change(GAIN, 0.0, [1]), "structure"),
            (
                Change(("targets", "0+5+0"), None, "0+5+0", "part"),
                Change(("targets", "4+7+0"), None, "4+7+0", "part", 1),
                "none",
            ),
        )
        for mine, theirs, meets in cases:
            self.assertEqual(find_conflict([mine], [theirs]), meets, (mine, theirs))
