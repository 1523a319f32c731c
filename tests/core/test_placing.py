"""What placements do to sound.

Distance, diffuseness, turned scenes, moving parameters, test signals in their place.
"""

from typing import Any

import numpy as np
import sofar

from metaphon.core.document.targets import target_named
from metaphon.core.engine.automation import GRID_FRAMES
from metaphon.core.engine.plan import compile
from metaphon.core.engine.render import Output, render
from metaphon.core.listen.monitor import NOW, MonitorSource
from metaphon.core.listen.session import Session
from metaphon.core.spatial.air import air_absorption_db_per_m
from metaphon.core.spatial.ambisonics import encode
from metaphon.core.spatial.head import SHIPPED
from metaphon.core.spatial.virtual_loudspeakers import BEHIND_DEG
from tests.sounds import RATE_HZ, FolderTest, noise, sine


def points(*rows: tuple[Any, ...]) -> list[dict[str, Any]]:
    return [{"t_s": t, "value": v, **({"curve": c[0]} if c else {})} for t, v, *c in rows]


def level_db(sound: np.ndarray) -> float:
    return float(10 * np.log10(max(np.mean(sound**2), 1e-20)))


class Distance(FolderTest):
    def made(self, sound: np.ndarray, automation: Any = (), **place: Any) -> np.ndarray:
        self.write("a.wav", sound)
        mix = self.mix(
            [{"sound": "a.wav", "placement": {"mode": "object", **place}}],
            automation=list(automation),
        )
        return self.rendered(mix, "0+1+0")[0]

    def test_level(self) -> None:
        sound = noise(1, 0.5)
        near = self.made(sound)
        for law, distance, wanted in (
            (6.0, 4.0, -12.0),
            (3.0, 2.0, -3.0),
            (6.0, 0.5, 6.0),
            (0.0, 5.0, 0.0),
        ):
            far = self.made(sound, level_db_per_doubling=law, distance=distance)[: len(near)]
            self.assertAlmostEqual(level_db(far) - level_db(near), wanted, delta=0.1)

    def test_air_takes_what_the_standard_says(self) -> None:
        """ISO 9613-1: over 100 m, at frequencies of a sine each."""
        for frequency in (1000.0, 8000.0, 14000.0):
            tone = sine(frequency, 0.5, -6.0)[None]
            loss = level_db(self.made(tone)[4000:20000]) - level_db(
                self.made(tone, air=True, distance=10.0, sphere_m=10.0)[4000:20000]
            )
            self.assertAlmostEqual(loss, 100 * float(air_absorption_db_per_m(frequency)), delta=0.4)

    def test_travel_delays_by_the_speed_of_sound(self) -> None:
        """3.43 m at 343 m/s are 10 ms; read between samples by a windowed sinc."""
        sound = noise(1, 0.3)
        late = self.made(sound, travel=True, distance=1.0, sphere_m=3.43)
        np.testing.assert_allclose(late[480 : 480 + 12000], sound[0, :12000], atol=2e-4)

    def test_what_comes_nearer_is_bent_in_pitch(self) -> None:
        """Doppler: a source that comes at v is heard at f / (1 - v/c), as it moves while it sounds
        (physics of waves, any textbook; here 34.3 m/s, so 11.1 %).
        """
        tone = sine(1000.0, 1.2, -6.0)[None]
        lane = {"target": "t0/placement/distance", "points": points((0.0, 6.86), (1.0, 3.43))}
        moving = self.made(tone, [lane], travel=True, sphere_m=10.0)
        heard = moving[12000:40000]
        spectrum = np.abs(np.fft.rfft(heard * np.hanning(len(heard)), 1 << 18))
        peak = np.argmax(spectrum) * RATE_HZ / (1 << 18)
        self.assertAlmostEqual(peak, 1000.0 / (1 - 34.3 / 343.0), delta=1.0)

    def test_sends_keep_their_level_unless_told(self) -> None:
        self.write("a.wav", noise(1, 0.3))
        found = []
        for too in (False, True):
            place = {
                "mode": "object",
                "distance": 4.0,
                "level_db_per_doubling": 6.0,
                "sends_too": too,
            }
            mix = self.mix(
                [{"sound": "a.wav", "placement": place, "sends": [{"bus": "b", "level_db": 0.0}]}],
                buses=[
                    {"id": "b", "name": "B", "layout": "0+1+0", "placement": {"layout": "0+1+0"}}
                ],
            )
            plan = compile(mix)
            out = np.concatenate(
                [b[0] for b in render(plan, [Output(target_named("0+1+0"), only="b")])], axis=1
            )
            found.append(level_db(out))
        self.assertAlmostEqual(found[0] - found[1], 12.0, delta=0.2)


class Scenes(FolderTest):
    def test_a_scene_is_turned_and_may_turn_in_time(self) -> None:
        front = noise(1, 0.5) * encode(0.0, 0.0, 1)[:, None]
        self.write("scene.wav", front)
        left = self.rendered(
            self.mix([{"sound": "scene.wav", "placement": {"mode": "scene", "azimuth_deg": 90.0}}]),
            "scene1",
        )
        np.testing.assert_allclose(
            left[:, :12000], front[[0]][:, :12000] * encode(90.0, 0.0, 1)[:, None], atol=1e-5
        )
        moving = self.mix(
            [{"sound": "scene.wav", "placement": {"mode": "scene"}}],
            automation=[
                {
                    "target": "t0/placement/azimuth_deg",
                    "points": points((0.0, 170.0), (0.4, -170.0)),
                }
            ],
        )
        turned = self.rendered(moving, "scene1")
        self.assertGreater(
            level_db(turned[0]), level_db(turned[1]) + 12
        )  # behind all the while, never in front
        np.testing.assert_array_equal(turned, self.rendered(moving, "scene1", 2 * GRID_FRAMES))

    def test_dual_band_is_basic_below_and_max_re_above(self) -> None:
        for frequency, kind in ((40.0, "basic"), (12000.0, "max_re")):
            self.write("tone.wav", sine(frequency, 0.6, -6.0)[None] * encode(20.0, 0.0, 1)[:, None])
            made = {
                weighting: self.rendered(
                    self.mix(
                        [
                            {
                                "sound": "tone.wav",
                                "placement": {"mode": "scene", "weighting": weighting},
                            }
                        ]
                    ),
                    "0+5+0",
                )
                for weighting in ("dual_band", "basic", "max_re")
            }
            cut = slice(8000, 24000)
            difference = {
                k: level_db(made["dual_band"][:, cut] - made[k][:, cut])
                for k in ("basic", "max_re")
            }
            self.assertEqual(min(difference, key=lambda k: difference[k]), kind)
            self.assertLess(difference[kind], level_db(made[kind][:, cut]) - 18)


class Diffuse(FolderTest):
    def test_energy_is_kept_and_channels_grow_unlike(self) -> None:
        self.write("a.wav", noise(1, 2.0))
        place = {"mode": "object", "azimuth_deg": 0.0, "extent_deg": 180.0}
        alike = self.rendered(self.mix([{"sound": "a.wav", "placement": place}]), "0+5+0")
        lost = self.rendered(
            self.mix([{"sound": "a.wav", "placement": {**place, "diffuseness": 1.0}}]), "0+5+0"
        )
        self.assertAlmostEqual(level_db(lost), level_db(alike), delta=0.4)
        self.assertGreater(np.corrcoef(alike[[0, 1]])[0, 1], 0.99)
        self.assertLess(abs(np.corrcoef(lost[[0, 1]])[0, 1]), 0.5)
        self.assertEqual(np.abs(lost[3]).max(), 0.0)
        np.testing.assert_array_equal(
            lost,
            self.rendered(
                self.mix([{"sound": "a.wav", "placement": {**place, "diffuseness": 1.0}}]),
                "0+5+0",
                3 * GRID_FRAMES,
            ),
        )


class Headphones(FolderTest):
    """What moves is worked out in another way than what stands still.

    Where it rests, both must sound alike.
    """

    def test_what_moves_sounds_where_it_rests_as_what_stands_still(self) -> None:
        self.write("a.wav", noise(1, 3.0))
        cases = (
            ("azimuth_deg", 30.0, 100.0, {}),
            ("elevation_deg", -20.0, 60.0, {"azimuth_deg": 75.0}),
            ("extent_deg", 0.0, 120.0, {"azimuth_deg": -40.0}),  # from a point to many directions
            ("distance", 1.0, 0.4, {"azimuth_deg": 20.0, "on_sphere": False}),
            ("diffuseness", 0.0, 0.6, {"azimuth_deg": 120.0}),
        )
        for name, before, after, place in cases:
            with self.subTest(name):
                there = {"mode": "object", "level_db_per_doubling": 0.0, **place}
                lane = {
                    "target": f"t0/placement/{name}",
                    "points": points((1.0, before), (2.0, after)),
                }
                moving = self.mix([{"sound": "a.wav", "placement": there}], automation=[lane])
                sound = self.rendered(moving, "binaural")
                np.testing.assert_allclose(
                    sound, self.rendered(moving, "binaural", 3 * GRID_FRAMES), atol=2e-6
                )
                for value, cut in ((before, slice(4800, 43200)), (after, slice(105600, 139200))):
                    still = self.mix([{"sound": "a.wav", "placement": {**there, name: value}}])
                    wanted = self.rendered(still, "binaural")[:, cut]
                    self.assertLess(level_db(sound[:, cut] - wanted), level_db(wanted) - 30.0)

    def test_a_step_is_heard_at_its_time(self) -> None:
        """It lies between the points that all share, so the sound has a line of its own there."""
        self.write("a.wav", noise(1, 3.0))
        there = {"mode": "object"}
        steps = points((1.0, 30.0, "hold"), (1.51, 100.0, "hold"), (1.6, -60.0))
        lane = {"target": "t0/placement/azimuth_deg", "points": steps}
        moving = self.mix([{"sound": "a.wav", "placement": there}], automation=[lane])
        sound = self.rendered(moving, "binaural")
        np.testing.assert_allclose(
            sound, self.rendered(moving, "binaural", 5 * GRID_FRAMES), atol=2e-6
        )
        rings = 600  # samples: a response, and half a step
        for value, first_s, last_s in ((30.0, 0.1, 1.51), (100.0, 1.51, 1.6), (-60.0, 1.6, 3.0)):
            cut = slice(round(first_s * RATE_HZ) + rings, round(last_s * RATE_HZ) - 60)
            still = self.mix([{"sound": "a.wav", "placement": {**there, "azimuth_deg": value}}])
            wanted = self.rendered(still, "binaural")[:, cut]
            self.assertLess(level_db(sound[:, cut] - wanted), level_db(wanted) - 30.0)

    def test_whatever_the_block(self) -> None:
        """In short blocks what was heard from a place is kept until it has been left."""
        self.write("a.wav", noise(1, 1.5, 1))
        self.write("b.wav", np.concatenate([noise(2, 0.6, 2), 0 * noise(2, 0.9)], axis=1))
        tracks = [
            {"sound": "a.wav", "placement": {"mode": "object"}},
            {"sound": "b.wav", "placement": {"mode": "object", "extent_deg": 40.0}},
            {"sound": "a.wav", "placement": {"mode": "object", "diffuseness": 0.3}},
            {"sound": "a.wav", "placement": {"mode": "object", "azimuth_deg": 90.0}},
        ]
        lanes = [
            points((0.1, 0.0), (1.2, 150.0)),
            points((0.2, -90.0), (0.31, -45.0, "hold"), (0.42, 60.0), (1.3, 0.0)),
            points((0.0, 20.0), (0.7, 22.0, "hold"), (0.9, -20.0)),
        ]
        mix = self.mix(
            tracks,
            automation=[
                {"target": f"t{n}/placement/azimuth_deg", "points": lane}
                for n, lane in enumerate(lanes)
            ],
        )
        whole = self.rendered(mix, "binaural")
        for steps in (1, 2, 5, 9):
            sound = self.rendered(mix, "binaural", steps * GRID_FRAMES)
            np.testing.assert_allclose(sound, whole, atol=2e-6, err_msg=str(steps))

    def test_a_pair_that_moves_waits_for_the_bus_that_it_feeds(self) -> None:
        """The bus is held back by a filter of linear phase."""
        self.write("a.wav", noise(2, 1.0))
        lane = {"target": "t0/placement/azimuth_deg", "points": points((0.0, 0.0), (1.0, 90.0))}
        track = {"sound": "a.wav", "placement": {"mode": "object"}}
        sent = {**track, "sends": [{"bus": "slow", "level_db": -120.0}]}
        slow = {"kind": "eq", "phase": "linear", "bands": [{"gain_db": 3.0}]}
        bus = {"id": "slow", "name": "Slow", "chain": [slow]}
        alone = self.rendered(self.mix([track], automation=[lane]), "binaural")
        waiting = self.rendered(self.mix([sent], buses=[bus], automation=[lane]), "binaural")
        np.testing.assert_allclose(waiting[:, :48000], alone[:, :48000], atol=2e-6)


class OwnHead(FolderTest):
    def test_a_render_is_for_the_head_that_is_brought(self) -> None:
        """A head whose left ear hears nothing of the right half: a file of one's own (SOFA)."""
        sofa = sofar.read_sofa(str(SHIPPED), verify=False, verbose=False)
        deaf = np.array(sofa.Data_IR)
        deaf[np.mod(sofa.SourcePosition[:, 0], 360.0) > 180.0, 0] *= 1e-3
        sofa.Data_IR = deaf
        path = self.folder / "own.sofa"
        sofar.write_sofa(str(path), sofa)
        self.write("a.wav", noise(1, 0.5))
        mix = self.mix([{"sound": "a.wav", "placement": {"mode": "object", "azimuth_deg": -90.0}}])
        plan = compile(mix)
        for head, apart_db in ((SHIPPED, 10.0), (path, 28.0)):
            outputs = [Output(target_named("binaural"), None, head)]
            sound = np.concatenate([b[0] for b in render(plan, outputs)], axis=1)
            left, right = (level_db(side[2000:20000]) for side in sound)
            self.assertAlmostEqual(right - left, apart_db, delta=6.0)


class Moving(FolderTest):
    def test_a_processor_that_moves_passes_without_a_click_whatever_the_block(self) -> None:
        self.write("a.wav", sine(220.0, 1.0, -12.0)[None])
        mix = self.mix(
            [
                {
                    "sound": "a.wav",
                    "chain": [{"kind": "eq", "bands": [{"shape": "bell", "frequency_hz": 220.0}]}],
                }
            ],
            automation=[
                {"target": "t0/chain/0/bands/0/gain_db", "points": points((0.2, 0.0), (0.8, 12.0))}
            ],
        )
        sound = self.rendered(mix, "0+2+0")
        np.testing.assert_array_equal(sound, self.rendered(mix, "0+2+0", GRID_FRAMES))
        early, late = sound[0, 2000:8000], sound[0, 42000:47000]
        self.assertAlmostEqual(level_db(late) - level_db(early), 12.0, delta=0.2)
        steps = np.abs(np.diff(sound[0, :47900], 2))  # up to where the recording ends
        self.assertLess(
            steps.max(), 2.5 * steps[40000:47000].max()
        )  # no step anywhere is sharper than the tone at its loudest

    def test_curves_reach_the_sound(self) -> None:
        self.write("a.wav", np.full((1, RATE_HZ), 0.5))
        mix = self.mix(
            [{"sound": "a.wav"}],
            automation=[
                {
                    "target": "t0/gain_db",
                    "points": points((0.0, 0.0, "hold"), (0.5, -20.0), (0.9, -20.0)),
                }
            ],
        )
        sound = self.rendered(mix, "0+1+0")[0]
        half = RATE_HZ // 2
        self.assertAlmostEqual(
            level_db(sound[2000 : half - 2048]) - level_db(sound[half + 2048 : half + 9000]),
            20.0,
            delta=0.1,
        )

    def test_a_stereo_object_stands_as_wide_as_it_is_told(self) -> None:
        self.write("pair.wav", noise(2, 0.4))
        at = {"mode": "object"}
        apart = self.rendered(
            self.mix([{"sound": "pair.wav", "placement": {**at, "pair_deg": 60.0}}]), "0+2+0"
        )
        self.assertLess(abs(np.corrcoef(apart)[0, 1]), 0.05)
        together = self.rendered(
            self.mix([{"sound": "pair.wav", "placement": {**at, "pair_deg": 0.0}}]), "0+2+0"
        )
        self.assertGreater(np.corrcoef(together)[0, 1], 0.999)

    def test_a_pair_behind_is_two_objects_at_130_degrees(self) -> None:
        """About the middle behind, the left one at the left: the sum of two mono objects."""
        sound = noise(2, 0.4)
        for name, channels in (("pair", sound), ("left", sound[:1]), ("right", sound[1:])):
            self.write(f"{name}.wav", channels)
        up = {"mode": "object", "elevation_deg": 45.0}
        behind = {**up, "azimuth_deg": 180.0, "pair_deg": BEHIND_DEG}
        for target in ("4+7+0", "scene3"):
            pair = self.rendered(self.mix([{"sound": "pair.wav", "placement": behind}]), target)
            alone = [
                {"sound": f"{side}.wav", "placement": {**up, "azimuth_deg": angle}}
                for side, angle in (("left", 130.0), ("right", -130.0))
            ]
            np.testing.assert_allclose(pair, self.rendered(self.mix(alone), target), atol=1e-6)


class StandIns(FolderTest):
    def test_a_test_signal_is_heard_where_the_source_is(self) -> None:
        self.write("a.wav", noise(1, 3.0))
        mix = self.mix(
            [
                {
                    "sound": "a.wav",
                    "placement": {"mode": "object", "azimuth_deg": 110.0},
                    "muted": True,
                },
                {"sound": "a.wav", "output": "b"},
            ],
            buses=[
                {
                    "id": "b",
                    "name": "B",
                    "layout": "0+1+0",
                    "placement": {"mode": "object", "azimuth_deg": -30.0},
                }
            ],
        )
        for strip, channel in (("t0", 4), ("b", 1)):
            for signal in ("noise", "tone", "click"):
                session = Session(RATE_HZ)
                self.addCleanup(session.close)
                session.set_document(NOW, mix)
                session.hear(
                    "a", MonitorSource(target="0+5+0", what="stem", strip=strip, stand_in=signal)
                )  # type: ignore[arg-type]
                readings = [session.take(2048).readings for _ in range(8)]
                loud = max(readings, key=lambda r: max(r["hold"]))["hold"]
                self.assertEqual(int(np.argmax(loud)), channel, f"{strip} {signal}")
                self.assertLess(sorted(loud)[-2], -60.0)
        self.assertEqual(mix, session.documents[NOW])  # nothing of the mix has changed
