"""Two people change one mix and take their changes back: it happens, or it is said why not."""

from typing import Any

from metaphon.core.edits.registry import read
from metaphon.core.errors import InputError
from metaphon.web.mixes import journal, snapshots
from metaphon.web.mixes.models import Member
from metaphon.web.mixes.snapshots import document_of
from tests.web.base import WebTest, make_user

BUS = {"kind": "add_bus", "name": "Hall"}
OUT = {"kind": "remove_strip", "strip": "hall"}
GAIN = {"kind": "set", "strips": ["hall"], "path": "gain_db", "value": -6.0}
ROUTE = {"kind": "route", "strips": ["pier"], "to": "hall"}
SEND = {"kind": "send", "strips": ["pier"], "bus": "hall", "level_db": -6.0}
EQ = {"kind": "add_processor", "strip": "hall", "processor": "eq"}
GROUP = {"kind": "group", "strips": ["pier", "hall"], "name": "Both"}
PIER = {"kind": "add_bus", "name": "Pier"}
LAST = {"kind": "rename_mix", "title": "Last"}


class TwoEditors(WebTest):
    def setUp(self) -> None:
        super().setUp()
        self.people: dict[str, Any] = {"a": self.user, "b": make_user("bo")}
        Member.objects.create(mix=self.mix, user=self.people["b"], role="editor")

    def play(self, *steps: tuple[str, Any]) -> list[str]:
        """Each step by a person: a command, undo or redo; gives what was refused, in words."""
        refused = []
        for who, what in steps:
            try:
                if what in ("undo", "redo"):
                    getattr(journal, what)(self.mix, self.people[who])
                else:
                    journal.apply(self.mix, self.people[who], read(what))
            except InputError as error:
                refused.append(f"{who} {what}: {error}")
            kept = document_of(self.mix)
            snapshots.forget()
            self.assertEqual(document_of(self.mix), kept)
        return refused

    def test_every_case_happens_or_says_why_not_and_none_is_stuck(self) -> None:
        pier, hall = ("a", PIER), ("a", BUS)
        for case in (
            (hall, ("a", "undo"), ("b", BUS), ("a", "redo")),
            (hall, ("a", OUT), ("b", BUS), ("a", "undo")),
            (hall, ("a", OUT), ("b", BUS), ("b", GAIN), ("a", "undo"), ("b", "undo")),
            (hall, ("a", GAIN), ("a", "undo"), ("b", OUT), ("a", "redo")),
            (hall, ("b", GAIN), ("a", OUT), ("b", "undo"), ("a", "undo"), ("b", "undo")),
            (hall, pier, ("a", ROUTE), ("b", OUT), ("a", "undo"), ("b", "undo")),
            (hall, pier, ("a", SEND), ("a", "undo"), ("b", OUT), ("a", "redo")),
            (hall, pier, ("b", SEND), ("a", "undo"), ("a", "undo"), ("b", "undo")),
            (hall, ("b", EQ), ("a", OUT), ("b", "undo"), ("a", "undo"), ("b", "undo")),
            (hall, pier, ("a", GROUP), ("b", OUT), ("a", "undo"), ("b", "undo")),
            (hall, pier, ("b", GROUP), ("a", OUT), ("b", "undo"), ("a", "undo")),
            (hall, ("b", ROUTE | {"strips": ["hall"], "to": None}), ("a", "undo"), ("b", "undo")),
        ):
            with self.subTest(case):
                refused = self.play(*case)
                self.assertTrue(all(one.endswith(".") for one in refused), refused)
                # whatever was refused, both go on: to the very beginning of what each can undo
                self.play(("a", LAST), ("b", LAST | {"title": "Very last"}))
                self.assertEqual(document_of(self.mix).title, "Very last")
                for who in ("a", "b"):
                    steps = 0
                    while journal.next_undo(self.mix, self.people[who]):
                        self.play((who, "undo"))
                        steps += 1
                        self.assertLess(steps, 20)
                for strip in [strip.id for strip in document_of(self.mix).strips]:
                    self.play(("a", {"kind": "remove_strip", "strip": strip}))

    def test_a_redo_that_names_what_is_gone_does_not_block_the_next(self) -> None:
        self.play(("a", BUS), ("a", PIER))
        other = GAIN | {"strips": ["pier"]}
        self.play(("a", GAIN), ("a", other), ("a", "undo"), ("a", "undo"), ("b", OUT))
        [said] = self.play(("a", "redo"))
        self.assertIn("changed this in the meantime (Removed Hall)", said)
        self.assertIn("Do again goes on with the next.", said)
        self.assertEqual(self.play(("a", "redo")), [])
        self.assertEqual(document_of(self.mix).strips[0].gain_db, -6.0)
