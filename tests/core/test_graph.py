"""The graph.

Parallel paths line up whatever their latency, mute and solo open and close ways, widths convert.
"""

import numpy as np
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from metaphon.core.document.channel_mapping import describe_mapping
from metaphon.core.document.targets import BUS_FORMATS, target_named
from metaphon.core.engine.automation import GRID_FRAMES
from metaphon.core.engine.plan import compile, latency_samples
from metaphon.core.spatial.ambisonics import encode
from metaphon.core.spatial.layouts import layout_named
from tests.sounds import RATE_HZ, FolderTest, noise

FRAMES = 4800
MARGIN = 6400  # room for what is pushed out of the mix and comes back
WINDOW = FRAMES + 2 * MARGIN


def amplitude(level_db: float) -> float:
    return 10 ** (level_db / 20) if level_db > -120 else 0.0


def shifted(sound: np.ndarray, frames: int) -> np.ndarray:
    """Later by so many frames, or earlier, in a window of the same length."""
    out = np.zeros_like(sound)
    if frames >= 0:
        out[:, frames:] = sound[:, : sound.shape[1] - frames]
    else:
        out[:, :frames] = sound[:, -frames:]
    return out


class SlowRenderer:
    """Whole arrays, no blocks, no latency to make up for: what the engine must equal."""

    def __init__(self, strips: dict[str, dict], sounds: dict[str, np.ndarray]) -> None:
        self.strips = strips
        self.sounds = {i: np.pad(sound, ((0, 0), (MARGIN, MARGIN))) for i, sound in sounds.items()}
        self.soloed = {i for i, s in strips.items() if s["soloed"] and self.sounding(i)}
        self.safe = {i for i, s in strips.items() if s["solo_safe"] and self.sounding(i)}

    def sounding(self, name: str) -> bool:
        return not self.strips[name]["muted"] and not self.strips[name]["resting"]

    def leads(self, one: str, other: str) -> bool:
        """Whether sound of one could reach the other, through strips that are neither muted nor at
        rest.
        """
        if one == other:
            return True
        if not self.sounding(one):
            return False
        aims = [s["bus"] for s in self.strips[one]["sends"]] + [self.strips[one]["output"]]
        return any(aim in self.strips and self.leads(aim, other) for aim in aims)

    def is_open(self, source: str, aim: str) -> bool:
        if not self.sounding(source) or (aim in self.strips and self.strips[aim]["resting"]):
            return False
        if not self.soloed:
            return True
        below = any(self.leads(s, source) for s in self.soloed | self.safe)
        return below or any(aim in self.strips and self.leads(aim, s) for s in self.soloed)

    def source(self, name: str) -> np.ndarray:
        total = self.sounds.get(name, np.zeros((2, WINDOW))).copy()
        for other, strip in self.strips.items():
            if strip["output"] == name and self.is_open(other, name):
                total += self.after(other)
            for send in strip["sends"]:
                if send["bus"] == name and not send["muted"] and self.is_open(other, name):
                    tapped = {"strip": self.source, "pre": self.chained, "post": self.after}[
                        send["tap"]
                    ](other)
                    total += amplitude(send["level_db"]) * tapped
        return total

    def chained(self, name: str) -> np.ndarray:
        sound = self.source(name)
        for processor in self.strips[name]["chain"]:
            if processor["kind"] == "basics" and not processor.get("bypassed"):
                sound = shifted(sound, round(processor["delay_ms"] * 48))
                sound = -sound if processor["polarity_inverted"] else sound
        return sound  # the equaliser has no bands: latency and nothing else

    def after(self, name: str) -> np.ndarray:
        return amplitude(self.strips[name]["gain_db"]) * self.chained(name)

    def programme(self) -> np.ndarray:
        parts = [
            self.after(i)
            for i, s in self.strips.items()
            if s["output"] == "programme" and self.is_open(i, "programme")
        ]
        total = np.sum(parts, axis=0) if parts else np.zeros((2, WINDOW))
        return total[:, MARGIN : MARGIN + FRAMES]


PROCESSOR = st.one_of(
    st.builds(
        lambda delay, inverted, bypassed: {
            "kind": "basics",
            "delay_ms": delay / 48.0,
            "polarity_inverted": inverted,
            "bypassed": bypassed,
        },
        st.integers(-700, 700),
        st.booleans(),
        st.booleans(),
    ),
    st.builds(
        lambda length: {"kind": "eq", "phase": "linear", "length_ms": length},
        st.sampled_from(["20", "40"]),
    ),
)


@st.composite
def graphs(draw: st.DrawFn) -> list[dict]:
    """Tracks and buses with ways that only run forwards."""
    tracks, buses = draw(st.integers(1, 3)), draw(st.integers(1, 3))
    names = [f"t{i}" for i in range(tracks)] + [f"b{i}" for i in range(buses)]
    gain = st.sampled_from([0.0, -3.5, 6.0, -120.0])
    rarely = st.sampled_from([False, False, False, True])
    strips = []
    for name in names:
        first = int(name[1:]) + 1 if name[0] == "b" else 0
        ahead = [f"b{i}" for i in range(first, buses)]
        sends = [
            {
                "bus": bus,
                "level_db": draw(gain),
                "tap": draw(st.sampled_from(["strip", "pre", "post"])),
                "muted": draw(rarely),
            }
            for bus in ahead
            if draw(st.booleans())
        ]
        strips.append(
            {
                "id": name,
                "name": name,
                "gain_db": draw(gain),
                "sends": sends,
                "output": draw(st.sampled_from(["programme", *ahead])),
                "chain": draw(st.lists(PROCESSOR, max_size=2)),
                "muted": draw(rarely),
                "soloed": draw(rarely),
                "solo_safe": draw(rarely),
                "resting": draw(rarely),
                "placement": {"mode": "bed", "layout": "0+2+0"},
            }
        )
    return strips


class AgainstASlowRenderer(FolderTest):
    def check(self, strips: list[dict]) -> None:
        sounds = {
            s["id"]: noise(2, FRAMES / RATE_HZ, n)
            for n, s in enumerate(strips)
            if s["id"][0] == "t"
        }
        tracks = []
        for strip in strips:
            if strip["id"] in sounds:
                self.write(f"{strip['id']}.wav", sounds[strip["id"]])
                tracks.append({**strip, "sound": f"{strip['id']}.wav"})
        mix = self.mix(tracks, buses=[s for s in strips if s["id"] not in sounds])
        if all(s["resting"] for s in tracks):
            return
        got = self.rendered(mix, "0+2+0", 3 * GRID_FRAMES)[:, :FRAMES]
        wanted = SlowRenderer({s["id"]: s for s in strips}, sounds).programme()
        np.testing.assert_allclose(got, wanted[:, : got.shape[1]], atol=3e-6)

    @settings(
        max_examples=60, deadline=None, suppress_health_check=[HealthCheck.differing_executors]
    )
    @given(graphs())
    def test_random_graphs(self, strips: list[dict]) -> None:
        self.check(strips)


class ParallelPaths(FolderTest):
    def test_paths_of_different_latency_null(self) -> None:
        """Two ways to the mix, one upside down, each with latency of its own.

        Below -120 dB of the sound.
        """
        sound = noise(2, 1.0, level=0.3)
        self.write("a.wav", sound)
        flat = {"kind": "eq", "phase": "linear", "length_ms": "80"}
        bell = {"shape": "bell", "frequency_hz": 900.0, "gain_db": 6.0, "q": 1.0}
        ways = (
            ([flat], []),
            ([{"kind": "basics", "delay_ms": -3.0}, {"kind": "basics", "delay_ms": 3.0}], [flat]),
            (
                [{**flat, "bands": [bell], "length_ms": "320"}],
                [{**flat, "bands": [bell], "length_ms": "320"}, flat],
            ),
        )
        for one, other in ways:
            tracks = [
                {"sound": "a.wav", "output": "straight"},
                {"sound": "a.wav", "sends": [{"bus": "side", "level_db": 0.0}], "output": None},
            ]
            buses = [
                {"id": "straight", "name": "Straight", "chain": one},
                {"id": "side", "name": "Side", "output": "turned", "chain": other[:1]},
                {
                    "id": "turned",
                    "name": "Turned",
                    "chain": [*other[1:], {"kind": "basics", "polarity_inverted": True}],
                },
            ]
            alone = self.rendered(self.mix(tracks[:1], buses=buses), "0+2+0")
            left = self.rendered(self.mix(tracks, buses=buses), "0+2+0")
            self.assertGreater(np.std(alone), 0.1)
            self.assertLess(20 * np.log10(np.std(left) / np.std(alone) + 1e-12), -120)

    def test_an_impulse_stays_where_it_was_and_the_latency_is_told(self) -> None:
        click = np.zeros((1, 9600))
        click[0, 5000] = 1.0
        self.write("a.wav", click)
        chain = [{"kind": "eq", "phase": "linear", "length_ms": "40"}]
        mix = self.mix(
            [{"sound": "a.wav", "chain": chain, "output": "b"}],
            buses=[{"id": "b", "name": "B", "chain": chain}],
        )
        self.assertEqual(compile(mix).latency_samples, 1920)
        self.assertEqual(latency_samples(mix), 1920)
        self.assertEqual(int(np.argmax(self.rendered(mix, "0+1+0")[0])), 5000)

    def test_a_track_pushed_ahead_of_the_beat(self) -> None:
        click = np.zeros((1, 9600))
        click[0, 5000] = 1.0
        self.write("a.wav", click)
        mix = self.mix(
            [
                {"sound": "a.wav", "chain": [{"kind": "basics", "delay_ms": -10.0}]},
                {"sound": "a.wav"},
            ]
        )
        out = self.rendered(mix, "0+1+0")[0]
        np.testing.assert_allclose(out[[4520, 5000]], 1.0, atol=1e-6)

    def test_automation_keeps_its_time_beside_latency(self) -> None:
        self.write("a.wav", np.ones((1, 48000)) * 0.5)
        lane = {
            "target": "t0/gain_db",
            "points": [{"t_s": 0.4, "value": 0.0}, {"t_s": 0.4267, "value": -120.0}],
        }
        late = [{"kind": "eq", "phase": "linear", "length_ms": "160"}]
        plain = self.rendered(self.mix([{"sound": "a.wav"}], automation=[lane]), "0+1+0")[0, :48000]
        mix = self.mix(
            [{"sound": "a.wav", "output": "b"}],
            buses=[{"id": "b", "name": "B", "chain": late}],
            automation=[lane],
        )
        np.testing.assert_allclose(self.rendered(mix, "0+1+0")[0, :48000], plain, atol=1e-5)


class Solo(FolderTest):
    def heard(self, **marks: list[str]) -> float:
        """What sounds: tracks of 1, 2 and 4 into a bus b (of which the mix gets all).

        T2 also sends to r.
        """
        for number in range(3):
            self.write(f"{number}.wav", np.ones((2, 2048)) * 2**number / 64)
        marked = lambda i: {mark: i in ids for mark, ids in marks.items()}  # noqa: E731
        tracks = [
            {
                "sound": f"{n}.wav",
                "output": "b" if n < 2 else "programme",
                **marked(f"t{n}"),
                "sends": [{"bus": "r", "level_db": 0.0}] if n == 2 else [],
            }
            for n in range(3)
        ]
        buses = [{"id": i, "name": i, **marked(i)} for i in ("b", "r")]
        return round(float(self.rendered(self.mix(tracks, buses=buses), "0+2+0")[0, 1000]) * 64, 3)

    def test_what_is_heard(self) -> None:
        self.assertEqual(self.heard(), 1 + 2 + 4 + 4)
        self.assertEqual(self.heard(soloed=["t0"]), 1)
        self.assertEqual(self.heard(soloed=["t2"]), 4 + 4)  # its return is heard with it
        self.assertEqual(self.heard(soloed=["b"]), 1 + 2)
        self.assertEqual(self.heard(soloed=["r"]), 4)  # the return alone, without the track itself
        self.assertEqual(self.heard(soloed=["t0"], solo_safe=["t2"]), 1 + 4 + 4)
        self.assertEqual(
            self.heard(soloed=["t0"], muted=["t0"]), 2 + 4 + 4
        )  # a muted strip solos nothing
        self.assertEqual(self.heard(muted=["b"]), 4 + 4)


class Widths(FolderTest):
    def test_every_width_enters_every_bus_and_is_told(self) -> None:
        self.write("a.wav", noise(1, 0.1))
        for one in BUS_FORMATS:
            for two in BUS_FORMATS:
                buses = [
                    {"id": "x", "name": "X", "layout": one, "output": "y"},
                    {"id": "y", "name": "Y", "layout": two},
                ]
                out = self.rendered(
                    self.mix([{"sound": "a.wav", "output": "x"}], buses=buses), "0+2+0"
                )
                self.assertGreater(np.std(out), 0.01, f"{one} into {two}")
                self.assertEqual(
                    describe_mapping(target_named(one), target_named(two)) == "",
                    one == two or (one < two and "scene" in one),
                )

    def test_mono_into_a_scene_is_its_harmonics_and_a_send_may_stand_elsewhere(self) -> None:
        sound = noise(1, 0.1)
        self.write("a.wav", sound)
        track = {
            "sound": "a.wav",
            "output": None,
            "placement": {"mode": "object", "azimuth_deg": 40.0, "elevation_deg": 10.0},
        }
        bus = {"id": "x", "name": "X", "layout": "scene2", "placement": {"mode": "scene"}}
        for azimuth, extra in ((40.0, {}), (-90.0, {"azimuth_deg": -90.0})):
            send = {"bus": "x", "level_db": 0.0, **extra}
            out = self.rendered(self.mix([{**track, "sends": [send]}], buses=[bus]), "scene2")
            np.testing.assert_allclose(out, encode(azimuth, 10.0, 2)[:, None] * sound, atol=1e-6)

    def test_a_wide_send_turns_to_an_azimuth_of_its_own(self) -> None:
        sound = noise(2, 0.1)
        self.write("a.wav", sound)
        for layout, azimuth, left, right in (
            ("0+2+0", 0.0, "M+030", "M-030"),
            ("0+5+0", 0.0, "M+030", "M-030"),
            ("0+5+0", 140.0, None, "M+110"),  # its right loudspeaker comes to stand at 110
        ):
            bus = {
                "id": "x",
                "name": "X",
                "layout": layout,
                "placement": {"mode": "bed", "layout": layout},
            }
            send = {"bus": "x", "level_db": 0.0, "azimuth_deg": azimuth}
            out = self.rendered(
                self.mix([{"sound": "a.wav", "output": None, "sends": [send]}], buses=[bus]), layout
            )
            labels = layout_named(layout).labels
            if left:
                np.testing.assert_allclose(out[labels.index(left)], sound[0], atol=1e-6)
                np.testing.assert_allclose(out[labels.index(right)], sound[1], atol=1e-6)
            else:
                both = out[labels.index("M+110")], out[labels.index("M-110")]
                self.assertGreater(
                    np.corrcoef(both[0], sound[1])[0, 1], 0.7
                )  # 110 also takes part of 170
                self.assertLess(abs(np.corrcoef(both[1], sound[1])[0, 1]), 0.1)
                np.testing.assert_allclose(
                    np.sum(out**2, axis=0).mean(), np.sum(sound**2, axis=0).mean(), rtol=0.1
                )
            self.assertEqual(out[labels.index("LFE1")].any() if "LFE1" in labels else False, False)
