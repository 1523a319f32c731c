"""What each processor does to loudness, against closed forms."""

from math import log10
from typing import Any

import numpy as np

from metaphon.core.edits.command import apply
from metaphon.core.edits.registry import read
from metaphon.core.engine.chain_loudness import loudness_changes
from metaphon.core.errors import InputError
from metaphon.core.process.registry import KINDS
from tests.sounds import RATE_HZ, FolderTest, noise

_SPAN = (RATE_HZ, 5 * RATE_HZ)


def rise_db(power: float) -> float:
    return 10.0 * log10(power)


class Changes(FolderTest):
    def setUp(self) -> None:
        super().setUp()
        one = noise(1, 6.0, 4, 0.05)
        self.write("pair.wav", np.repeat(one, 2, axis=0))
        self.write("six.wav", noise(6, 6.0, 5, 0.02))

    def changes(self, *chain: dict[str, Any], sound: str = "pair.wav") -> list[float | None]:
        mix = self.mix([{"sound": sound, "chain": list(chain)}])
        return loudness_changes(mix, "t0", _SPAN)

    def test_what_widens_rises_by_the_power_that_it_adds(self) -> None:
        doubles = {"kind": "doubler", "drift_db": 0.0, "doubles": 3, "level_db": -4.0}
        for processor, wanted in (
            ({"kind": "widener", "correlation": 0.0, "bass_hz": 20.0}, rise_db(2.0)),
            ({"kind": "widener", "correlation": 0.6, "bass_hz": 20.0}, rise_db(1.0 + 0.4 / 1.6)),
            (doubles, rise_db(1.0 + 3.0 * 10.0**-0.4)),
            ({"kind": "basics", "polarity_inverted": True}, 0.0),
        ):
            [found] = self.changes(processor)
            assert found is not None
            self.assertAlmostEqual(found, wanted, delta=0.25, msg=str(processor))
            if processor["kind"] != "basics":
                [held] = self.changes({**processor, "hold_loudness": True})
                assert held is not None
                self.assertAlmostEqual(held, 0.0, delta=0.25, msg=str(processor))

    def test_in_the_order_of_the_chain_on_any_width(self) -> None:
        bell = {"shape": "high_shelf", "frequency_hz": 20.0, "gain_db": 6.0}
        found = self.changes(
            {"kind": "basics"},
            {"kind": "eq", "bypassed": True},
            {"kind": "eq", "bands": [bell]},
            sound="six.wav",
        )
        self.assertEqual(found[1], None)
        assert found[0] is not None and found[2] is not None
        self.assertAlmostEqual(found[0], 0.0, places=4)
        self.assertAlmostEqual(found[2], 6.0, delta=0.05)

    def test_every_processor_tells_it(self) -> None:
        for kind in KINDS:
            with self.subTest(kind):
                [found] = self.changes({"kind": kind})
                self.assertTrue(found is None or np.isfinite(found))

    def test_those_newly_added_hold_it(self) -> None:
        mix = self.mix([{"sound": "pair.wav"}])
        for kind in ("widener", "doubler"):
            mix = apply(mix, read({"kind": "add_processor", "strip": "t0", "processor": kind}))
        self.assertTrue(all(one.hold_loudness for one in mix.tracks[0].chain))
        for change in loudness_changes(mix, "t0", _SPAN):
            assert change is not None
            self.assertLess(abs(change), 0.5)

    def test_silence_tells_nothing(self) -> None:
        self.write("none.wav", np.zeros((1, RATE_HZ)))
        self.assertEqual(self.changes({"kind": "eq"}, sound="none.wav"), [None])
        mix = self.mix([{"name": "empty", "chain": [{"kind": "eq"}]}])
        with self.assertRaises(InputError):
            loudness_changes(mix, "t0", _SPAN)
