"""What is printed, handed over or heard of one strip sounds as in the mix, at every moment."""

from collections.abc import Iterator
from typing import Any

import numpy as np

from metaphon.core.document.targets import target_named
from metaphon.core.document.value_paths import movable_range
from metaphon.core.edits.structure import AddDouble
from metaphon.core.engine.plan import compile
from metaphon.core.engine.printing import print_strip
from metaphon.core.engine.render import Output, render
from metaphon.core.engine.stems import sources_of
from metaphon.core.engine.strip_width import through_chain
from metaphon.core.files.audio import ClipReader
from metaphon.core.listen.monitor import MonitorSource
from metaphon.core.listen.session import mix_heard
from metaphon.core.process.eq import Band
from metaphon.core.process.registry import KINDS
from metaphon.core.spaces.shipped import FOLDER
from tests.sounds import RATE_HZ, FolderTest, noise

WIDTH = {1: "0+1+0", 2: "0+2+0"}
SPAN = (0, RATE_HZ // 4)


def heard(mix: Any, output: Output) -> np.ndarray:
    parts = [blocks[0] for blocks in render(compile(mix), [output], *SPAN)]
    return np.concatenate(parts, axis=1)


def movable(kind: str) -> Iterator[tuple[str, float, float]]:
    """Every number of a processor that may move, with its range."""
    base = {"bands": (Band(),)} if kind == "eq" else {}
    processor = KINDS[kind](**base)
    for name in type(processor).model_fields:
        if found := movable_range(processor, (name,)):
            yield name, *found
    for name in Band.model_fields if base else ():
        if found := movable_range(processor, ("bands", 0, name)):
            yield f"bands/0/{name}", *found


class Alone(FolderTest):
    def setUp(self) -> None:
        super().setUp()
        self.write("a.wav", noise(2, 0.25))

    def moving(self, kind: str, name: str, low: float, high: float, **track: Any) -> Any:
        chain: dict[str, Any] = {"kind": kind}
        chain |= {"bands": [{"gain_db": 6.0}]} if kind == "eq" else {}
        chain |= (
            {"file": str(FOLDER / "boat_shed_omnis_near.flac")} if "convolution" in kind else {}
        )
        chain |= {"correlation": 0.5} if kind == "widener" else {}
        points = [{"t_s": 0.05, "value": low}, {"t_s": 0.2, "value": high}]
        lanes = [
            {"target": f"t0/chain/0/{name}", "points": points},
            {"target": "t0/gain_db", "points": [{"t_s": t, "value": -20 * t} for t in (0, 0.5)]},
        ]
        place = {"mode": "bed", "layout": "0+2+0"}
        own = {"sound": "a.wav", "chain": [chain], "placement": place, **track}
        return self.mix([own], automation=lanes)

    def test_every_value_that_moves_is_heard_to_move_in_every_way(self) -> None:
        moved = 0
        for kind in KINDS:
            for place, (name, low, high) in enumerate(movable(kind)):
                with self.subTest(kind=kind, name=name):
                    mix = self.moving(kind, name, low, high)
                    level = [lane for lane in mix.automation if lane.target != "t0/gain_db"]
                    before_fader = mix.model_copy(update={"automation": tuple(level)})
                    pair = Output(target_named("0+2+0"))
                    wanted = heard(before_fader, pair)
                    still = heard(before_fader.model_copy(update={"automation": ()}), pair)
                    moved += not np.allclose(wanted, still, atol=1e-4)
                    ways = {
                        "width": through_chain(mix, "t0", SPAN),
                        "listen": heard(*mix_heard(mix, MonitorSource(what="alone", strip="t0"))),
                    }
                    for way, got in ways.items():
                        self.assertTrue(np.array_equal(got, wanted), way)
                    if place:
                        continue  # what follows is the same for all of a kind
                    [stem] = sources_of(mix)
                    self.assertTrue(np.array_equal(heard(stem.mix, pair), heard(mix, pair)))
                    plain = heard(*mix_heard(mix, MonitorSource(what="before", strip="t0")))
                    np.testing.assert_allclose(plain, noise(2, 0.25), atol=1e-6)
        self.assertGreater(moved, 40)  # the others are silent, linked or switched off by default

    def test_a_print_follows_its_lanes(self) -> None:
        mix = self.moving("virtual_pair", "left_deg", 22.5, 135.0)
        path, _ = print_strip(mix, "t0", self.folder)
        reader = ClipReader(path)
        printed = reader.read(0, SPAN[1])
        reader.close()
        without = mix.model_copy(update={"automation": (mix.automation[0],)})
        wanted = heard(without, Output(target_named("0+2+0")))
        np.testing.assert_allclose(printed, wanted, atol=1e-7)

    def test_doubles_that_are_printed_are_made_no_more(self) -> None:
        """Nor where a lane said how many."""
        mix = self.moving("doubler", "doubles", 2.0, 2.0)
        printed = AddDouble(strip="t0", place=0, file=self.folder / "a.wav").apply(mix)
        self.assertNotIn("t0/chain/0/doubles", [lane.target for lane in printed.automation])
