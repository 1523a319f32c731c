"""Linked reverbs: set as one, bypassed apart, and let go."""

import unittest
from typing import Any

from metaphon.core.document.mix import Mix
from metaphon.core.edits.command import apply
from metaphon.core.edits.registry import read
from metaphon.core.errors import InputError
from metaphon.core.files.mixdoc import parse


class Linked(unittest.TestCase):
    def setUp(self) -> None:
        rooms = {"one": 1.0, "two": 2.0, "three": 3.0}
        self.mix = parse(
            {
                "format": "metaphon-mix",
                "buses": [
                    {
                        "id": name,
                        "name": name,
                        "chain": [{"kind": "network_reverb", "decay_s": decay_s}],
                    }
                    for name, decay_s in rooms.items()
                ],
            }
        )

    def do(self, mix: Mix, **command: Any) -> Mix:
        return apply(mix, read(command))

    def decays(self, mix: Mix) -> list[float]:
        return [bus.chain[0].decay_s for bus in mix.buses]

    def test_what_is_set_of_one_is_set_of_all_and_of_no_other(self) -> None:
        mix = self.do(self.mix, kind="link_reverb", strip="two", place=0, to="one")
        self.assertEqual(self.decays(mix), [1.0, 1.0, 3.0])
        for strip, decay_s in (("one", 4.0), ("two", 5.0)):
            path = "chain/0/decay_s"
            mix = self.do(mix, kind="set", strips=[strip], path=path, value=decay_s)
            self.assertEqual(self.decays(mix), [decay_s, decay_s, 3.0])
        mix = self.do(mix, kind="link_reverb", strip="three", place=0, to="two")
        mix = self.do(mix, kind="set", strips=["three"], path="chain/0/size", value=2.0)
        self.assertEqual([bus.chain[0].size for bus in mix.buses], [2.0] * 3)
        mix = self.do(mix, kind="set", strips=["one"], path="chain/0/bypassed", value=True)
        self.assertEqual([bus.chain[0].bypassed for bus in mix.buses], [True, False, False])
        mix = self.do(mix, kind="link_reverb", strip="two", place=0, to=None)
        mix = self.do(mix, kind="set", strips=["one"], path="chain/0/decay_s", value=9.0)
        self.assertEqual(self.decays(mix), [9.0, 5.0, 9.0])

    def test_what_cannot_be_linked_is_refused(self) -> None:
        other = self.do(self.mix, kind="add_bus", name="Four", layout="0+2+0")
        for to in ("four", "one"):
            with self.assertRaisesRegex(InputError, "no network reverb"):
                self.do(other, kind="link_reverb", strip="one", place=0, to=to)
