"""A listening session: what is heard, checks, compare at one loudness, devices; nothing clicks."""

import json
from typing import Any

import numpy as np

from metaphon.core.errors import InputError
from metaphon.core.listen.chain_spectrum import BANDS, LOWEST_HZ
from metaphon.core.listen.compare import Blind
from metaphon.core.listen.monitor import NOW, Binaural, Checks, Monitor, MonitorSource, VirtualPair
from metaphon.core.listen.session import Session
from metaphon.core.listen.watched import Watched
from tests.sounds import RATE_HZ, FolderTest, noise, sine


class SessionTest(FolderTest):
    def session(self, mix: Any, **settings: Any) -> Session:
        session = Session(RATE_HZ)
        self.addCleanup(session.close)
        session.set_document(NOW, mix)
        session.hear("a", MonitorSource(**settings))
        return session

    def heard(self, session: Session, stretches: int = 6) -> np.ndarray:
        return np.concatenate([session.take(2048).samples for _ in range(stretches)], axis=1)

    def pair(self) -> Any:
        self.write("pair.wav", noise(2, 2.0))
        self.write("mono.wav", noise(1, 2.0, seed=5))
        bed = {"mode": "bed", "layout": "0+2+0"}
        return self.mix(
            [
                {
                    "sound": "pair.wav",
                    "placement": bed,
                    "chain": [{"kind": "basics", "input_gain_db": -6.0}],
                },
                {
                    "sound": "mono.wav",
                    "placement": {"mode": "object", "azimuth_deg": 30.0},
                    "gain_db": -3.0,
                },
            ]
        )


class Heard(SessionTest):
    def test_each_way_of_hearing(self) -> None:
        mix = self.pair()
        whole = self.rendered(mix, "0+2+0")
        pair, mono = noise(2, 2.0), noise(1, 2.0, seed=5)
        cases = {
            "mix": (MonitorSource(), whole),
            "stem": (MonitorSource(what="stem", strip="t0"), pair * 10 ** (-6 / 20)),
            "alone": (MonitorSource(what="alone", strip="t0"), pair * 10 ** (-6 / 20)),
            "before": (MonitorSource(what="before", strip="t0"), pair),
            "beds": (MonitorSource(kinds="beds"), pair * 10 ** (-6 / 20)),
            "objects": (
                MonitorSource(kinds="objects"),
                np.concatenate([mono, mono * 0]) * 10 ** (-3 / 20),
            ),
            "without chains": (MonitorSource(chains=False, kinds="beds"), pair),
            "mono alone": (
                MonitorSource(what="before", strip="t1"),
                np.repeat(mono, 2, axis=0) * np.sqrt(0.5),
            ),
        }
        for name, (monitor_source, expected) in cases.items():
            session = self.session(mix, **monitor_source.model_dump())
            np.testing.assert_allclose(
                self.heard(session), expected[:, : 6 * 2048], atol=2e-6, err_msg=name
            )

    def test_changing_what_is_heard_passes_over_in_one_stretch(self) -> None:
        """From one target to another at full sound, in step.

        Two alike things leave no trace of the change.
        """
        self.write("tone.wav", sine(100, 2.0, -6))
        mix = self.mix([{"sound": "tone.wav", "placement": {"mode": "object"}}])
        session = self.session(mix)
        whole = self.rendered(mix, "0+2+0")
        parts = [self.heard(session, 4)]
        for monitor_source in (
            MonitorSource(what="stem", strip="t0"),
            MonitorSource(target="0+2+0", kinds="objects"),
            MonitorSource(),
        ):
            session.hear("a", monitor_source)
            parts.append(self.heard(session, 2))
        sound = np.concatenate(parts, axis=1)
        bend = np.abs(np.diff(sound, n=2, axis=1)).max(axis=0)
        self.assertLess(bend[9000:].max(), 8 * bend[1000:8000].max())
        np.testing.assert_allclose(
            sound[:, -1500:], whole[:, sound.shape[1] - 1500 : sound.shape[1]], atol=1e-5
        )

    def test_a_strip_that_is_gone_is_told_and_the_rest_goes_on(self) -> None:
        session = self.session(self.pair())
        with self.assertRaisesRegex(InputError, "no longer in the mix"):
            session.hear("a", MonitorSource(what="stem", strip="t9"))
        self.assertEqual(session.monitor_sources["a"], MonitorSource())
        self.assertTrue(self.heard(session).any())

    def test_a_jump_before_anything_has_sounded(self) -> None:
        session = Session(RATE_HZ)
        self.addCleanup(session.close)
        session.set_document(NOW, self.pair())
        session.jump(30000)
        self.assertEqual([session.take(2048).first for _ in range(2)], [30000, 32048])

    def test_loudspeakers_alone_and_muted(self) -> None:
        self.write("six.wav", noise(6, 1.0))
        mix = self.mix([{"sound": "six.wav", "placement": {"mode": "bed", "layout": "0+5+0"}}])
        session = self.session(mix, target="0+5+0")
        session.set_monitor(Monitor(alone=("M+030", "M-110"), silent=("M-110",)))
        session.take(2048)
        pair = session.take(2048).samples
        np.testing.assert_allclose(pair[0], noise(6, 1.0)[0, 2048:4096], atol=1e-6)
        self.assertFalse(pair[1].any())


class Checking(SessionTest):
    def test_each_check_and_some_together(self) -> None:
        left, right = noise(2, 1.0)
        self.write("pair.wav", np.stack([left, right]))
        mix = self.mix([{"sound": "pair.wav", "placement": {"mode": "bed", "layout": "0+2+0"}}])
        nothing = np.zeros_like(left)
        cases = (
            (Checks(mono=True), (left + right) / 2, (left + right) / 2),
            (Checks(side=True), (left - right) / 2, (left - right) / 2),
            (Checks(left_only=True), left, nothing),
            (Checks(right_only=True), nothing, right),
            (Checks(swapped=True), right, left),
            (Checks(right_inverted=True), left, -right),
            (Checks(right_inverted=True, mono=True), (left - right) / 2, (left - right) / 2),
            (Checks(swapped=True, left_only=True), right, nothing),
        )
        for checks, one, other in cases:
            session = self.session(mix)
            session.set_monitor(Monitor(checks=checks))
            heard = self.heard(session)[:, 2048:]
            expected = np.stack([one, other])[:, 2048:12288]
            np.testing.assert_allclose(heard, expected, atol=1e-6, err_msg=str(checks))

    def test_dim_and_level_move_without_a_step(self) -> None:
        self.write("tone.wav", np.ones((2, 48000)) * 0.5)
        mix = self.mix([{"sound": "tone.wav", "placement": {"mode": "bed", "layout": "0+2+0"}}])
        session = self.session(mix)
        self.heard(session, 1)
        session.set_monitor(Monitor(dimmed=True, level_db=-3.0))
        sound = self.heard(session, 2)[0]
        self.assertLess(np.abs(np.diff(sound)).max(), 1e-3)
        self.assertAlmostEqual(sound[-1], 0.5 * 10 ** (-23 / 20), places=5)


class Comparing(SessionTest):
    def test_two_sides_in_step_at_one_loudness(self) -> None:
        self.write("a.wav", noise(2, 8.0))
        bed = {"mode": "bed", "layout": "0+2+0"}
        loud = self.mix([{"sound": "a.wav", "placement": bed}])
        quiet = self.mix([{"sound": "a.wav", "placement": bed, "gain_db": -7.0}])
        session = self.session(loud)
        session.set_document("revision 3", quiet)
        session.hear("b", MonitorSource(source="revision 3"))
        session.compare(True)
        for _ in range(60):
            one = session.take(2048)
        self.assertAlmostEqual(one.readings["matched_db"]["a"], -7.0, delta=0.1)
        session.compare(True, "b")
        session.take(2048)
        other = session.take(2048)
        self.assertEqual(other.readings["matched_db"]["b"], 0.0)
        expected = noise(2, 8.0)[:, other.first : other.first + 2048] * 10 ** (-7 / 20)
        np.testing.assert_allclose(other.samples, expected, atol=1e-5)
        session.compare(True, "b", matched=False)
        session.compare(False, "a")
        session.take(2048)
        back = session.take(2048)
        np.testing.assert_allclose(
            back.samples, noise(2, 8.0)[:, back.first : back.first + 2048], atol=1e-5
        )

    def test_blind_gives_no_figures_and_keeps_the_score(self) -> None:
        blind = Blind(seed=4)
        right = [blind.answer("a") for _ in range(10)]
        self.assertEqual((blind.trials, blind.right), (10, sum(right)))
        self.assertTrue(0 < blind.right < 10)
        # binomial tables: 9 or more of 10 by guessing, 11 in 1024
        self.assertAlmostEqual(Blind(seed=1, trials=10, right=9).chance, 11 / 1024)
        session = self.session(self.pair())
        session.blind = blind
        session.compare(True, "x")
        self.assertEqual(set(session.take(2048).readings), {"blind", "out_peak"})


class LookingIn(SessionTest):
    """A processor's spectrum, and a command that one listener alone tries."""

    def lifted(self) -> Any:
        self.write("pair.wav", noise(2, 4.0))
        bell = {"kind": "eq", "bands": [{"frequency_hz": 1000.0, "gain_db": 12.0, "q": 1.0}]}
        chain = [{"kind": "basics", "bypassed": True}, bell]
        return self.mix([{"sound": "pair.wav", "chain": chain}])

    def test_what_a_processor_takes_and_gives_is_told_by_band(self) -> None:
        session = self.session(self.lifted())
        self.assertNotIn("spectrum", session.take(2048).readings)
        session.watch(Watched(strip="t0", place=1))
        for _ in range(20):
            told = session.take(2048).readings["spectrum"]
        difference = np.array(told["after"]) - np.array(told["before"])
        at = LOWEST_HZ * 1000.0 ** ((np.arange(BANDS) + 0.5) / BANDS)
        wanted = 20.0 * np.log10(
            np.abs(session.documents[NOW].tracks[0].chain[1].response(at, RATE_HZ))
        )
        np.testing.assert_allclose(difference[at > 100.0], wanted[at > 100.0], atol=0.6)
        # a sine of -20 dBFS on both sides stands at -17 dB
        self.write("tone.wav", np.repeat(sine(1000.0, 2.0, -20.0)[None], 2, axis=0))
        session = self.session(self.mix([{"sound": "tone.wav", "chain": [{"kind": "basics"}]}]))
        session.watch(Watched(strip="t0", place=0))
        for _ in range(8):
            told = session.take(2048).readings["spectrum"]
        self.assertAlmostEqual(max(told["before"]), -17.0, delta=1.5)  # by the window's scallop
        session.watch(Watched(strip="gone", place=3))
        self.assertNotIn("spectrum", session.take(2048).readings)

    def test_a_side_tries_a_command_at_matched_loudness_and_the_mix_stays(self) -> None:
        session = self.session(self.lifted())
        off = {"kind": "set", "strips": ["t0"], "path": "chain/1/bypassed", "value": True}
        session.hear("b", MonitorSource(trying=json.dumps(off)))
        session.compare(True, "b", matched=False)
        plain = self.rendered(self.mix([{"sound": "pair.wav"}]), "0+2+0")
        heard = self.heard(session)
        np.testing.assert_allclose(heard[:, 2048:], plain[:, 2048 : heard.shape[1]], atol=2e-6)
        session.compare(True, "a", matched=True)
        for _ in range(40):
            readings = session.take(2048).readings
        self.assertLess(readings["matched_db"]["a"], -0.5)  # the lifted side is brought down
        self.assertFalse(session.documents[NOW].tracks[0].chain[1].bypassed)
        for text, words in (("{", "no JSON"), ("{}", "no command"), ('{"kind": "set"}', "missing")):
            with self.assertRaisesRegex(InputError, words):
                session.hear("b", MonitorSource(trying=text))


class Devices(SessionTest):
    def test_virtual_pair_crosstalk_delay(self) -> None:
        """At 30 degrees the far ear hears later by what two published laws bound, a = 8.75 cm.

        High frequencies 0.26 ms: Woodworth 1938, (a/c)(angle + sin angle); low 0.38 ms: Kuhn 1977,
        3 (a/c) sin angle.
        """
        click = np.zeros((2, 24000))
        click[0, 4000] = 0.5
        self.write("click.wav", click)
        mix = self.mix([{"sound": "click.wav", "placement": {"mode": "bed", "layout": "0+2+0"}}])
        angle = np.radians(30.0)
        least, most = 0.0875 / 343.0 * (angle + np.sin(angle)), 3 * 0.0875 / 343.0 * np.sin(angle)
        for head in ("measured", "sphere"):
            session = self.session(mix)
            session.set_monitor(Monitor(through="virtual_pair", binaural=Binaural(head=head)))
            ears = self.heard(session, 4)
            size = 1 << 18
            spectra = np.fft.rfft(ears, size)
            band = np.fft.rfftfreq(size, 1 / RATE_HZ) < 1500.0
            likeness = np.fft.irfft(spectra[1] * np.conj(spectra[0]) * band, size)
            late = int(np.argmax(likeness[:100])) / RATE_HZ
            self.assertTrue(0.95 * least < late < 1.05 * most, (head, late))
            self.assertGreater(np.std(ears[0]), 1.2 * np.std(ears[1]))

    def test_every_device_plays_every_format_and_silence_stays_silence(self) -> None:
        self.write("a.wav", noise(1, 1.0))
        self.write("none.wav", np.zeros((1, 48000)))
        for through in ("plain", "binaural", "virtual_pair", "loudspeakers"):
            for target in ("0+1+0", "0+2+0", "4+7+0", "binaural", "scene1"):
                for file, sounds in (("a.wav", True), ("none.wav", False)):
                    mix = self.mix(
                        [{"sound": file, "placement": {"mode": "object", "azimuth_deg": 20.0}}]
                    )
                    session = self.session(mix, target=target)
                    session.set_monitor(
                        Monitor(through=through, virtual_pair=VirtualPair(left_deg=120.0))
                    )
                    self.assertEqual(bool(self.heard(session, 2).any()), sounds, (through, target))
