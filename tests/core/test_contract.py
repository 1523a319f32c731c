"""What a processor at work owes: its memory is kept, moves are to the sample, nothing clicks."""

from collections.abc import Sequence
from typing import Any

import numpy as np

from metaphon.core.document.targets import target_named
from metaphon.core.engine.automation import GRID_FRAMES
from metaphon.core.engine.live import Player
from metaphon.core.engine.plan import compile
from metaphon.core.engine.render import Output
from tests.sounds import RATE_HZ, FolderTest, noise, sine

MONO = Output(target_named("0+1+0"))
STRETCH = 2048  # 43 ms


def level_db(sound: np.ndarray) -> float:
    return float(20 * np.log10(np.std(sound) + 1e-12))


class Touched(FolderTest):
    """Parameters that are touched again and again while a mix plays."""

    def played(self, mixes: Sequence[Any], frames: int, output: Output = MONO) -> np.ndarray:
        """A stretch of each mix in turn, the last going on."""
        player = Player(compile(mixes[0]), (output,))
        self.addCleanup(player.close)
        found = []
        for n in range(frames // STRETCH):
            if 0 < n < len(mixes):
                player.change(compile(mixes[n]))
            found.append(player.take(STRETCH)[1][output])
        return np.concatenate(found, axis=1)

    def with_chain(self, processor: dict[str, Any], **more: Any) -> Any:
        return self.mix([{"sound": "a.wav", "chain": [processor], **more}])

    def test_a_width_that_creeps_leaves_a_long_delay_sounding(self) -> None:
        self.write("a.wav", noise(2, 2.0))
        bed = {"placement": {"mode": "bed", "layout": "0+2+0"}}
        basics = lambda n: {"kind": "basics", "delay_ms": 270.0, "width": 1.0 + n * 0.0005}  # noqa: E731
        pair = Output(target_named("0+2+0"))
        got = self.played([self.with_chain(basics(n), **bed) for n in range(30)], 81920, pair)
        still = self.rendered(self.with_chain(basics(0), **bed), "0+2+0")[:, :81920]
        np.testing.assert_allclose(got, still, atol=0.03)

    def test_a_linear_phase_band_moved_by_a_hundredth_of_a_db_changes_as_little(self) -> None:
        self.write("a.wav", noise(1, 2.0))

        def mix(n: int) -> Any:
            band = {"frequency_hz": 900.0, "gain_db": 6.0 + n * 0.01}
            return self.with_chain({"kind": "eq", "phase": "linear", "bands": [band]})

        got = self.played([mix(n) for n in range(20)], 81920)
        still = self.rendered(mix(0), "0+1+0")[:, :81920]
        self.assertLess(level_db(got - still) - level_db(still), -28.0)

    def test_a_room_rings_on_when_its_decay_and_size_are_touched(self) -> None:
        click = np.zeros((1, 96000))
        click[0, 100] = 1.0
        self.write("a.wav", click)

        def mix(n: int) -> Any:
            room = {"kind": "network_reverb", "decay_s": 4.0 + n * 0.01, "size": 1.0 + n * 0.01}
            return self.with_chain(room)

        got = self.played([mix(0)] * 5 + [mix(n) for n in range(20)], 81920)[0]
        still = self.rendered(mix(0), "0+1+0")[0]
        for first in range(12000, 78000, 6000):
            part = slice(first, first + 6000)
            self.assertAlmostEqual(level_db(got[part]), level_db(still[part]), delta=3.0)

    def test_what_comes_and_goes_in_a_chain_leaves_the_others_at_work(self) -> None:
        """A processor put before a ringing room, set, bypassed and taken out again."""
        click = np.zeros((1, 96000))
        click[0, 100] = 1.0
        self.write("a.wav", click)
        room = {"kind": "network_reverb", "decay_s": 4.0}
        bell = {"kind": "eq", "bands": [{"frequency_hz": 500.0, "gain_db": 6.0}]}
        chains: list[list[dict[str, Any]]] = [
            *[[room]] * 4,
            [bell, room],
            [{**bell, "bypassed": True}, room],
            [bell, room],
            [{"kind": "basics"}, bell, room],
            [room],
        ]
        mixes = [self.mix([{"sound": "a.wav", "chain": chain}]) for chain in chains]
        got = self.played(mixes, 81920)[0]
        still = self.rendered(mixes[0], "0+1+0")[0]
        np.testing.assert_allclose(got[9000:81920], still[9000:81920], atol=2e-5)

    def test_a_processor_that_goes_rings_out(self) -> None:
        click = np.zeros((1, 96000))
        click[0, 100] = 1.0
        self.write("a.wav", click)
        room = self.with_chain({"kind": "network_reverb", "decay_s": 1.0})
        got = self.played([room] * 5 + [self.mix([{"sound": "a.wav"}])], 61440)[0]
        still = self.rendered(room, "0+1+0")[0]
        np.testing.assert_allclose(got[12000:40000], still[12000:40000], atol=2e-5)

    def test_a_filter_swept_hard_stays_clean_and_bounded(self) -> None:
        """From one end to the other every 43 ms: no more than its own resonance could give."""
        self.write("a.wav", sine(440.0, 2.0, -20.0)[None])
        ends = [{"kind": "resonator", "frequency_hz": f, "sharpness": 20.0} for f in (60.0, 9000.0)]
        got = self.played([self.with_chain(ends[n % 2]) for n in range(40)], 81920)
        self.assertLess(np.abs(got).max(), 0.4)
        self.assertLess(np.abs(np.diff(got[0], 2)).max(), 0.02)


class ToTheSample(FolderTest):
    def lane(self, target: str, *points: tuple[float, float, str]) -> dict[str, Any]:
        listed = [{"t_s": t, "value": v, "curve": c} for t, v, c in points]
        return {"target": target, "points": listed}

    def gain_of(self, *points: tuple[float, float, str]) -> np.ndarray:
        self.write("a.wav", np.full((1, 4 * RATE_HZ), 0.5))
        mix = self.mix([{"sound": "a.wav"}], automation=[self.lane("t0/gain_db", *points)])
        for blocks in (GRID_FRAMES, 16 * GRID_FRAMES):
            out = self.rendered(mix, "0+1+0", blocks)[0] / 0.5
        np.testing.assert_array_equal(out * 0.5, self.rendered(mix, "0+1+0", GRID_FRAMES)[0])
        return out

    def test_a_cut_of_10_ms_is_as_long_wherever_it_begins(self) -> None:
        for begins in (3.0, 3.012, 3.01234):
            out = self.gain_of(
                (0.0, 0.0, "hold"), (begins, -120.0, "hold"), (begins + 0.01, 0.0, "hold")
            )
            shut = np.flatnonzero(out < 0.5)
            self.assertAlmostEqual(len(shut), 480, delta=1)
            self.assertAlmostEqual(shut[0], begins * RATE_HZ, delta=1)
            self.assertEqual(np.count_nonzero(out[: 4 * RATE_HZ] < 0.999), 480 + 95)  # 2 ms a step
            self.assertEqual(np.count_nonzero(out[: 4 * RATE_HZ] < 1e-6), 480 - 95)

    def test_between_breakpoints_every_sample_has_its_level(self) -> None:
        """Straight in dB between two breakpoints (the definition of a lane)."""
        out = self.gain_of((1.0001, 0.0, "linear"), (1.0307, -40.0, "linear"))
        at = np.arange(47000, 50500)
        wanted = np.interp(at / RATE_HZ, [1.0001, 1.0307], [0.0, -40.0])
        np.testing.assert_allclose(20 * np.log10(out[at]), wanted, atol=1e-3)

    def test_a_step_of_any_parameter_is_at_its_sample(self) -> None:
        """Half over at its sample, wholly 1 ms before and after, whatever is held."""
        self.write("a.wav", np.stack([np.full(96000, 0.5), np.full(96000, -0.5)]))
        at = 1.2345
        chain = [{"kind": "basics", "width": 1.0}]
        bed = {"mode": "bed", "layout": "0+2+0"}
        place = {"mode": "object", "azimuth_deg": 30.0}
        cases = (
            ("chain/0/width", 1.0, 0.5, {"chain": chain, "placement": bed}, 0),
            ("placement/pair_deg", 60.0, 0.0, {"placement": place}, 0),
        )
        for path, before, after, strip, channel in cases:
            lane = self.lane(f"t0/{path}", (0.0, before, "hold"), (at, after, "hold"))
            mix = self.mix([{"sound": "a.wav", **strip}], automation=[lane])
            out = self.rendered(mix, "0+2+0")[channel].astype(float)
            np.testing.assert_array_equal(self.rendered(mix, "0+2+0", GRID_FRAMES)[channel], out)
            frame = round(at * RATE_HZ)
            low, high = out[frame - 3000], out[frame + 3000]
            way = (out - low) / (high - low)
            np.testing.assert_allclose(way[frame - 2500 : frame - 49], 0.0, atol=1e-4)
            np.testing.assert_allclose(way[frame + 49 : frame + 2500], 1.0, atol=1e-4)
            self.assertAlmostEqual(way[frame], 0.5, delta=0.02)

    def test_a_delay_may_cross_from_late_to_early(self) -> None:
        self.write("a.wav", sine(1000.0, 1.0, -12.0)[None])
        lane = self.lane("t0/chain/0/delay_ms", (0.2, -2.0, "linear"), (0.8, 2.0, "linear"))
        mix = self.mix([{"sound": "a.wav", "chain": [{"kind": "basics"}]}], automation=[lane])
        out = self.rendered(mix, "0+1+0")[0]
        at = np.arange(4000, 46000)
        late = np.interp(at / RATE_HZ, [0.2, 0.8], [-0.002, 0.002])
        wanted = 10 ** (-12 / 20) * np.sin(2 * np.pi * 1000.0 * (at / RATE_HZ - late))
        np.testing.assert_allclose(out[at], wanted, atol=2e-4)
        steps = np.abs(np.diff(out[4000:46000], 2))
        self.assertLess(steps.max(), 1.1 * steps[:4000].max())

    def test_a_span_is_that_span_of_the_whole(self) -> None:
        """To -120 dB of full scale, with all that rings before it."""
        self.write("a.wav", noise(1, 3.0, level=0.1))
        chain = [
            {"kind": "resonator", "frequency_hz": 60.0, "sharpness": 80.0, "emphasis_db": 24.0},
            {"kind": "eq", "bands": [{"frequency_hz": 50.0, "gain_db": 12.0, "q": 20.0}]},
            {"kind": "network_reverb", "decay_s": 0.5, "wet_only": False},
        ]
        mix = self.mix([{"sound": "a.wav", "chain": chain}])
        whole = self.rendered(mix, "binaural")
        first, last = 100_000, 120_000
        part = self.rendered(mix, "binaural", first=first, last=last)
        np.testing.assert_allclose(part, whole[:, first:last], atol=1e-6)
