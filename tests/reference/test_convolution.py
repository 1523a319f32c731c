"""Convolution with responses of spaces: true to the sample, whatever happens to its response."""

import unittest
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
from scipy.signal import fftconvolve

from metaphon.core.dsp.motion import PIECE, Motion
from metaphon.core.dsp.partitioned import LONG, LongConvolver, prepared
from metaphon.core.dsp.right_angle import LONG as LONG_BLOCKS
from metaphon.core.dsp.right_angle import add_products, forward, inverse_end, turns
from metaphon.core.errors import InputError
from metaphon.core.measure.room_response import OCTAVES_HZ, room_response
from metaphon.core.process.convolution_reverb import ConvolutionReverb
from metaphon.core.process.impulse_response import (
    Behind,
    Shape,
    behind,
    responses_for,
    shaped,
)
from metaphon.core.process.processor import Channels
from metaphon.core.spatial.layouts import LAYOUTS
from tests.sounds import RATE_HZ, FolderTest, noise

STEREO = Channels(2, angles_deg=((30.0, 0.0), (-30.0, 0.0)))
FIVE = Channels(6, lfe=(3,), angles_deg=LAYOUTS["0+5+0"].angles_deg)
SCENE = Channels(4, order=1)


def decaying(channels: int, decay_s: float, seconds: float, seed: int = 1) -> np.ndarray:
    fall = 10.0 ** (-3.0 * np.arange(round(seconds * RATE_HZ)) / RATE_HZ / decay_s)
    return noise(channels, seconds, seed) * fall


def run(
    reverb: ConvolutionReverb, sound: np.ndarray, channels: Channels, begin: int = 0
) -> np.ndarray:
    running = reverb.start(channels, RATE_HZ, 0)
    return running.process(sound.astype(np.float32), Motion.still(reverb), begin)


class RightAngle(unittest.TestCase):
    def test_its_products_are_convolutions_whose_end_comes_back_turned_round(self) -> None:
        """Crandall & Fagin 1994; wanted by fftconvolve of scipy in double precision."""
        for blocks in (1, LONG_BLOCKS):
            frames = blocks * PIECE
            one, other = noise(2, 2 * frames / RATE_HZ, 5).astype(np.float32)
            own = np.zeros((2, blocks, 2 * PIECE), dtype=np.float32)
            for sound, spectrum in zip((one, other), own, strict=True):
                forward(sound, turns(blocks), spectrum)
            total, nothing = np.zeros_like(own[0]), np.zeros_like(own[0])
            add_products(total, own[0], own[1], nothing, nothing)
            end = np.zeros(frames, dtype=np.float32)
            inverse_end(total, turns(blocks), end)
            whole = fftconvolve(one.astype(float), other.astype(float))
            whole[: 2 * frames - 1] -= whole[2 * frames :]
            wanted = whole[frames : 2 * frames]
            self.assertLess(np.abs(end - wanted).max(), 1e-6 * np.abs(wanted).max())


class Partitioned(unittest.TestCase):
    def setUp(self) -> None:
        self.response = decaying(2, 1.0, 3.0).astype(np.float32)
        self.sound = noise(2, 2.5, 2)[:, : 110 * PIECE].astype(np.float32)
        ways = np.zeros((2, 2, self.response.shape[1]), dtype=np.float32)
        ways[[0, 1], [1, 0]] = self.response  # the left is heard at the right
        self.ready = prepared(np.eye(2), ways, 2)
        count = self.sound.shape[1]
        pairs = zip(self.sound[::-1], self.response[::-1], strict=True)
        self.wanted = np.stack([fftconvolve(s.astype(float), r)[:count] for s, r in pairs])

    def test_it_is_convolution_without_delay_at_any_block_size(self) -> None:
        """Within -120 dB of scipy's fftconvolve in double precision; blocks change no bit."""
        found = []
        for size in (PIECE, 3 * PIECE, 110 * PIECE):
            convolver = LongConvolver(self.ready, self.sound[:, :0], 0)
            blocks = range(0, self.sound.shape[1], size)
            found.append(
                np.concatenate([convolver.process(self.sound[:, i : i + size]) for i in blocks], 1)
            )
        error = np.abs(found[0] - self.wanted).max() / np.abs(self.wanted).max()
        self.assertLess(error, 1e-6)
        for other in found[1:]:
            np.testing.assert_array_equal(found[0], other)

    def test_it_may_begin_anywhere_and_go_on_from_what_came_before(self) -> None:
        for begin in (PIECE, LONG, LONG + 5 * PIECE):
            fresh = LongConvolver(self.ready, self.sound[:, :0], begin)
            error = np.abs(fresh.process(self.sound) - self.wanted).max()
            self.assertLess(error / np.abs(self.wanted).max(), 1e-6)
            later = LongConvolver(self.ready, self.sound[:, :begin], begin)
            error = np.abs(later.process(self.sound[:, begin:]) - self.wanted[:, begin:]).max()
            self.assertLess(error / np.abs(self.wanted).max(), 1e-6)

    def test_it_falls_silent_and_wakes_again(self) -> None:
        convolver = LongConvolver(self.ready, self.sound[:, :0], 0)
        convolver.process(self.sound)
        quiet = np.zeros((2, 16 * PIECE), dtype=np.float32)
        last = [convolver.process(quiet) for _ in range(20)][-1]
        self.assertEqual(np.abs(last).max(), 0.0)
        at = 110 * PIECE + 20 * 16 * PIECE
        again = LongConvolver(self.ready, self.sound[:, :0], at)
        np.testing.assert_allclose(
            convolver.process(self.sound), again.process(self.sound), atol=1e-6
        )


class Shaped(unittest.TestCase):
    def decays(self, shape: Shape) -> np.ndarray:
        """T30 of each octave, the mean of several responses of 2 s."""
        found = []
        for seed in range(4):
            made = shaped(decaying(2, 2.0, 3.5, seed), shape, RATE_HZ)
            found += [[o.t30_s for o in room_response(one, RATE_HZ).octaves] for one in made]
        return np.mean(np.array(found, dtype=float), axis=0)

    def test_decay_is_shortened_by_band(self) -> None:
        """Within 5 % an octave or more from a corner; unshaped it is as it was measured."""
        np.testing.assert_allclose(self.decays(Shape()), 2.0, rtol=0.05)
        found = self.decays(
            Shape(
                bass_decay=0.7,
                decay=0.5,
                treble_decay=0.6,
                bass_corner_hz=350.0,
                treble_corner_hz=2900.0,
            )
        )
        wanted = {125.0: 0.7, 1000.0: 1.0, 8000.0: 0.6}
        for hertz, seconds in wanted.items():
            told = found[OCTAVES_HZ.index(hertz)]
            self.assertAlmostEqual(told / seconds, 1.0, delta=0.06, msg=f"{hertz}: {found}")

    def test_never_shorter_than_300_ms_nor_longer_than_measured(self) -> None:
        np.testing.assert_allclose(self.decays(Shape(decay=0.05)), 0.3, rtol=0.08)
        np.testing.assert_allclose(
            self.decays(Shape(bass_decay=4.0, treble_decay=4.0)), 2.0, rtol=0.05
        )

    def test_distance_is_early_against_late_sound_and_keeps_the_energy(self) -> None:
        response = decaying(2, 1.5, 3.0)
        clear = []
        for distance in (0.0, 0.5, 1.0):
            made = shaped(response, Shape(distance=distance), RATE_HZ)
            clear.append(room_response(made[0], RATE_HZ).whole.c80_db)
            self.assertAlmostEqual(float(np.sum(made**2) / np.sum(response**2)), 1.0, delta=0.01)
        np.testing.assert_allclose(np.diff(np.array(clear, dtype=float)), -12.0, atol=2.5)

    def test_added_density_keeps_energy_and_decay(self) -> None:
        sparse = np.zeros((1, RATE_HZ))
        places = np.random.default_rng(3).integers(0, RATE_HZ, 80)
        sparse[0, places] = 10.0 ** (-3.0 * places / RATE_HZ)
        made = shaped(sparse, Shape(density=1.0), RATE_HZ)
        self.assertAlmostEqual(float(np.sum(made**2) / np.sum(sparse**2)), 1.0, delta=0.05)
        inside = slice(20, 100)
        before, after = (room_response(one[0], RATE_HZ).density[inside] for one in (sparse, made))
        self.assertGreater(after.mean(), 2.0 * before.mean())


class Reverb(FolderTest):
    def reverb(self, sound: np.ndarray, name: str = "r.wav", **parameters: Any) -> Any:
        path = self.write(name, sound)
        return ConvolutionReverb(file=path, **{"predelay_ms": 0.0, **parameters})

    def click(self, channels: int, on: int = 0, pieces: int = 100) -> np.ndarray:
        made = np.zeros((channels, pieces * PIECE), dtype=np.float32)
        made[on, 0] = 1.0
        return made

    def test_every_form_on_every_width(self) -> None:
        """Where each channel of a response comes out, at unit energy."""
        left_right = decaying(2, 0.5, 1.0)
        for forms, channels, on in (
            ((decaying(1, 0.5, 1.0), "auto"), STEREO, 1),
            ((left_right, "auto"), STEREO, 0),
            ((decaying(4, 0.5, 1.0), "auto"), STEREO, 0),
            ((decaying(6, 0.5, 1.0), "auto"), FIVE, 2),
            ((decaying(4, 0.5, 1.0), "auto"), SCENE, 0),
            ((decaying(9, 0.5, 1.0), "auto"), FIVE, 0),
            ((decaying(16, 0.5, 1.0), "auto"), Channels(1), 0),
            ((left_right, "auto"), FIVE, 0),
            ((decaying(6, 0.5, 1.0), "auto"), SCENE, 0),
        ):
            reverb = self.reverb(forms[0], f"{len(forms[0])}.wav", form=forms[1])
            out = run(reverb, self.click(channels.count, on), channels)
            loud = out[:1] if channels.order is not None else out
            self.assertAlmostEqual(float(np.sum(loud**2)), 1.0, delta=0.05, msg=str(channels))
            for low in channels.lfe:
                self.assertEqual(np.abs(out[low]).max(), 0.0)
        mono = run(self.reverb(decaying(1, 0.5, 1.0), "1.wav"), self.click(2, 1), STEREO)
        self.assertEqual(np.abs(mono[0]).max(), 0.0)  # what is at the right stays there

    def test_true_stereo_leads_from_each_side_to_each(self) -> None:
        response = decaying(4, 0.5, 1.0)  # left to left, left to right, right to left, right
        reverb = self.reverb(response)
        for on in (0, 1):
            out = run(reverb, self.click(2, on), STEREO)
            wanted = response[2 * on : 2 * on + 2]
            level = np.median(out[:, :9600] / wanted[:, :9600])
            np.testing.assert_allclose(out[:, : wanted.shape[1]], level * wanted, atol=1e-6)

    def test_a_response_apart_is_for_each_side_its_own(self) -> None:
        response = decaying(2, 0.5, 1.0)
        out = run(self.reverb(response, input_as="apart"), self.click(2, 1), STEREO)
        self.assertEqual(np.abs(out[0]).max(), 0.0)
        level = np.median(out[1, :9600] / response[1, :9600])
        np.testing.assert_allclose(out[1, : response.shape[1]], level * response[1], atol=1e-6)

    def test_a_new_response_passes_over_and_answers_to_what_came_before(self) -> None:
        """After the piece in which it passes over it sounds as if it had always been there."""
        one = self.reverb(decaying(2, 0.8, 1.5, 1), "one.wav")
        other = self.reverb(decaying(2, 1.6, 2.5, 2), "other.wav")
        sound = noise(2, 4.0, 7)[:, : 150 * PIECE].astype(np.float32)
        running = one.start(STEREO, RATE_HZ, 0)
        parts = [running.process(sound[:, : 70 * PIECE], Motion.still(one), 0)]
        piece = sound[:, 70 * PIECE : 71 * PIECE]
        parts.append(running.process(piece, Motion((0, PIECE), (one, other)), 70 * PIECE))
        parts.append(running.process(sound[:, 71 * PIECE :], Motion.still(other), 71 * PIECE))
        got = np.concatenate(parts, axis=1)
        before, after = run(one, sound, STEREO), run(other, sound, STEREO)
        np.testing.assert_allclose(got[:, : 70 * PIECE], before[:, : 70 * PIECE], atol=1e-6)
        np.testing.assert_allclose(got[:, 71 * PIECE :], after[:, 71 * PIECE :], atol=1e-5)
        ends = got[:, 70 * PIECE - 1 : 70 * PIECE + 1], before[:, 70 * PIECE - 1 : 70 * PIECE + 1]
        np.testing.assert_allclose(ends[0], ends[1], atol=1e-4)

    def test_while_a_response_is_made_ready_the_old_one_sounds_and_it_is_said(self) -> None:
        """Where somebody listens nothing waits; what is under way is done when it is done."""
        waiting: list[Any] = []
        listening = Behind()
        listening.work_with(lambda *call: waiting.append(call))
        kept, behind.get = behind.get, listening.get  # type: ignore[method-assign]
        self.addCleanup(setattr, behind, "get", kept)
        one = self.reverb(decaying(2, 0.5, 1.0, 1), "one.wav")
        other = self.reverb(decaying(2, 0.5, 1.0, 2), "new_room.wav")
        sound = noise(2, 1.0, 7)[:, : 40 * PIECE].astype(np.float32)

        def work() -> None:
            for call, *arguments in waiting:
                call(*arguments)
            waiting.clear()

        running = one.start(STEREO, RATE_HZ, 0)
        self.assertEqual(np.abs(running.process(sound, Motion.still(one), 0)).max(), 0.0)
        work()
        running.process(sound, Motion.still(one), 40 * PIECE)
        still = running.process(sound, Motion.still(other), 80 * PIECE)
        self.assertEqual(listening.waiting, ("new_room",))
        self.assertGreater(np.abs(still).max(), 1e-3)
        work()
        self.assertEqual(listening.waiting, ())
        running.process(sound[:, :PIECE], Motion.still(other), 120 * PIECE)
        after = running.process(sound, Motion.still(other), 121 * PIECE)
        self.assertGreater(np.abs(after - still).max(), 1e-3)

    def test_what_a_hand_has_passed_over_is_not_made(self) -> None:
        """Of several settings that were tried one after the other only the last is made ready."""
        waiting: list[Any] = []
        listening = Behind()
        listening.work_with(lambda *call: waiting.append(call))
        for name in ("get", "forget"):
            self.addCleanup(setattr, behind, name, getattr(behind, name))
            setattr(behind, name, getattr(listening, name))
        first = self.reverb(decaying(2, 0.5, 1.0, 1), "tried.wav")
        running = first.start(STEREO, RATE_HZ, 0)
        quiet = np.zeros((2, PIECE), dtype=np.float32)
        for number in range(5):
            tried = first.model_copy(update={"distance": 0.1 * number})
            running.process(quiet, Motion.still(tried), number * PIECE)
        self.assertEqual(len(waiting), 5)
        with mock.patch(
            "metaphon.core.process.impulse_response.responses_for", wraps=responses_for
        ) as made:
            for call, *arguments in waiting:
                call(*arguments)
        self.assertEqual([call.args[0].shape.distance for call in made.call_args_list], [0.4])
        click = self.click(2, pieces=1)
        self.assertGreater(np.abs(running.process(click, Motion.still(tried), 0)).max(), 1e-3)

    def test_no_response_is_silent_and_it_fades_where_it_is_taken_away(self) -> None:
        empty = ConvolutionReverb()
        self.assertEqual(np.abs(run(empty, noise(2, 0.5)[:, : 8 * PIECE], STEREO)).max(), 0.0)
        self.assertIn("Choose", empty.remark(RATE_HZ))
        full = self.reverb(decaying(2, 0.5, 1.0))
        running = full.start(STEREO, RATE_HZ, 0)
        sound = noise(2, 1.0)[:, : 40 * PIECE].astype(np.float32)
        running.process(sound, Motion.still(full), 0)
        out = running.process(sound[:, : 2 * PIECE], Motion.still(empty), 40 * PIECE)
        self.assertGreater(np.abs(out[:, :64]).max(), 1e-3)
        self.assertLess(np.abs(out[:, PIECE:]).max(), 1e-12)

    def test_what_is_no_response_is_refused_in_a_sentence(self) -> None:
        for name, sound, words in (
            ("silent.wav", np.zeros((2, 4800)), "is silent"),
            ("long.wav", np.full((1, 25 * RATE_HZ), 0.1), "20 s at most"),
            ("five.wav", np.full((13, 480), 0.1), "13 channels"),
        ):
            reverb = self.reverb(sound, name)
            with self.assertRaisesRegex(InputError, words):
                reverb.tail_s(RATE_HZ)
                run(reverb, noise(2, 0.1)[:, :PIECE], STEREO)
        with self.assertRaisesRegex(InputError, "is not there"):
            ConvolutionReverb(file=Path("/nowhere/at/all.wav")).tail_s(RATE_HZ)

    def test_a_response_at_another_rate_keeps_its_length(self) -> None:
        path = self.write("slow.wav", decaying(1, 0.5, 1.0)[:, ::2], RATE_HZ // 2)
        reverb = ConvolutionReverb(file=path, predelay_ms=0.0)
        out = run(reverb, self.click(1), Channels(1))
        told = room_response(out[0], RATE_HZ).octaves[2].t30_s
        assert told
        self.assertAlmostEqual(told, 0.5, delta=0.06)

    def test_a_render_holds_the_whole_tail_and_blocks_change_no_bit(self) -> None:
        """A click sent to a space comes back as its response to the last sample."""
        response = decaying(2, 0.6, 1.3)
        self.write("space.wav", response)
        click = np.zeros((1, RATE_HZ // 2))
        click[0, 5000] = 1.0
        self.write("click.wav", click)
        chain = [
            {
                "kind": "convolution_reverb",
                "file": str(self.folder / "space.wav"),
                "predelay_ms": 10.0,
            }
        ]
        bus = {"id": "tank", "name": "Tank", "layout": "0+2+0", "chain": chain}
        bus["placement"] = {"mode": "bed", "layout": "0+2+0"}
        send = {"bus": "tank", "level_db": 0.0, "tap": "pre"}
        track = {"sound": "click.wav", "muted": False, "gain_db": -120.0, "sends": [send]}
        mix = self.mix([track], buses=[bus])
        sounds = [self.rendered(mix, "0+2+0", size) for size in (PIECE, 16 * PIECE)]
        np.testing.assert_array_equal(*sounds)
        begins = 5000 + round(0.01 * RATE_HZ)
        heard = sounds[0][:, begins : begins + response.shape[1]]
        self.assertEqual(heard.shape[1], response.shape[1])
        level = np.median(heard[:, :9600] / response[:, :9600])
        np.testing.assert_allclose(heard, level * response, atol=1e-5)
