"""The network reverb: decay as it is set, no loss while held, reflections by geometry."""

import unittest
from typing import Any

import numpy as np
import pyroomacoustics
from hypothesis import given, settings
from hypothesis import strategies as st

from metaphon.core.document.value_paths import range_of_field
from metaphon.core.dsp.motion import PIECE, Motion
from metaphon.core.measure.room_response import OCTAVES_HZ, room_response
from metaphon.core.process.network_reverb import NetworkReverb
from metaphon.core.process.processor import Channels
from metaphon.core.process.reverb import narrowing
from metaphon.core.spatial.image_sources import images_of
from metaphon.core.spatial.layouts import LAYOUTS
from tests.sounds import RATE_HZ, noise

FIVE = LAYOUTS["0+5+0"]
FORMATS = (
    Channels(1),
    Channels(2, angles_deg=((30.0, 0.0), (-30.0, 0.0))),
    Channels(6, lfe=(3,), angles_deg=FIVE.angles_deg),
    Channels(16, order=3),
)


def tail(seconds: float, channels: int = 2, **parameters: Any) -> np.ndarray:
    """What comes of a click on each channel in turn, summed over nothing: the first's."""
    click = np.zeros((channels, round(seconds * RATE_HZ) // PIECE * PIECE), dtype=np.float32)
    click[0, 0] = 1.0
    parameters = {"predelay_ms": 0.0, **parameters}
    return NetworkReverb(**parameters).apply(click, RATE_HZ)


def expected_t30_s(reverb: NetworkReverb, hertz: float) -> float:
    """T30 of an octave in which each frequency falls as it is set (Schroeder's integral)."""
    inside = np.linspace(hertz * 2.0**-0.5, hertz * 2.0**0.5, 65)
    decay_s = reverb.decay_at_s(inside, RATE_HZ)
    times = np.linspace(0.0, 1.2 * decay_s.max(), 4000)
    fall = 6.0 * np.log(10.0) / decay_s
    left = np.sum(np.exp(-times[:, None] * fall) / fall, axis=1)
    curve = 10.0 * np.log10(left / left[0])
    between = (curve <= -5.0) & (curve >= -35.0)
    return float(-60.0 / np.polyfit(times[between], curve[between], 1)[0])


class Decay(unittest.TestCase):
    def test_each_octave_decays_as_it_is_set(self) -> None:
        """Within 5 %, the just noticeable difference (ISO 3382-1, annex A).

        A narrow band of noise scatters by itself, so several tails are told: of both channels, and
        of sizes close to each other.
        """
        for parameters in (
            {"decay_s": 1.2},
            {"decay_s": 2.0, "bass_decay": 1.6, "treble_decay": 0.4},
            {"decay_s": 0.8, "bass_decay": 0.6, "treble_decay": 0.8, "damping": 0.4},
        ):
            told, wanted = [], []
            for size in (0.85, 0.9, 0.95, 1.0, 1.05, 1.1):
                reverb = NetworkReverb(size=size, **parameters)
                wanted.append([expected_t30_s(reverb, hz) for hz in OCTAVES_HZ])
                for channel in tail(2.2 * reverb.tail_s(RATE_HZ), size=size, **parameters):
                    octaves = room_response(channel, RATE_HZ).octaves
                    told.append([one.t30_s for one in octaves])
            ratio = np.mean(np.array(told, dtype=float), axis=0) / np.mean(wanted, axis=0)
            np.testing.assert_allclose(ratio, 1.0, atol=0.05, err_msg=str(parameters))

    def test_between_the_corners_and_far_from_them_it_is_what_the_numbers_say(self) -> None:
        reverb = NetworkReverb(
            decay_s=2.0,
            bass_decay=1.5,
            treble_decay=0.4,
            bass_corner_hz=300.0,
            treble_corner_hz=3000.0,
        )
        found = reverb.decay_at_s(np.array([30.0, 950.0, 20000.0]), RATE_HZ)
        np.testing.assert_allclose(found, [3.0, 2.0, 0.8], rtol=0.02)

    def test_what_comes_out_has_the_energy_that_went_in(self) -> None:
        """At any share of early reflections, of diffusion and of decays."""
        for parameters in (
            {"early": 0.7},
            {"diffusion": 0.0, "build_up": 0.5},
            {"bass_decay": 2.0, "treble_decay": 0.2},
        ):
            energies = [
                float(np.sum(tail(3.0, decay_s=1.2, size=size, **parameters) ** 2, dtype=float))
                for size in (0.8, 0.9, 1.0, 1.1)
            ]
            self.assertAlmostEqual(float(np.mean(energies)), 1.0, delta=0.12, msg=str(parameters))

    def test_a_slow_room_rises_slowly(self) -> None:
        def risen_s(build_up: float) -> float:
            energy = np.cumsum(np.sum(tail(3.0, build_up=build_up, decay_s=0.8) ** 2, axis=0))
            return float(np.argmax(energy > 0.2 * energy[-1])) / RATE_HZ

        self.assertGreater(risen_s(1.0), risen_s(0.0) + 0.03)

    def test_the_late_tail_is_as_even_as_noise_at_every_size(self) -> None:
        """The largest of n independent lines of noise lies ln n + 0.577 over their mean.

        (Gumbel; 8.7 dB for 900.) Sizes and clicks together are no further from it than 1.5 dB.
        """
        for size in (0.2, 0.5, 1.0, 2.0, 3.0):
            found = []
            for decay_s in (1.0, 2.0, 4.0):
                sound = tail(decay_s, decay_s=decay_s, treble_decay=1.0, size=size)[0].astype(float)
                part = slice(round(0.25 * decay_s * RATE_HZ), round(0.75 * decay_s * RATE_HZ))
                at_s = np.arange(len(sound))[part] / RATE_HZ
                level = sound[part] * 10.0 ** (3.0 * at_s / decay_s)
                power = np.abs(np.fft.rfft(level * np.hanning(len(level)))) ** 2
                hertz = np.fft.rfftfreq(len(level), 1.0 / RATE_HZ)
                inside = power[(hertz > 200.0) & (hertz < 2000.0)]
                gumbel = np.log(len(inside) / 1.5) + 0.577  # lines of a Hann window are not alone
                found.append(10.0 * np.log10(inside.max() / inside.mean() / gumbel))
            self.assertLess(abs(float(np.mean(found))), 1.5, f"size {size}: {found}")


class Geometry(unittest.TestCase):
    def test_images_are_those_of_a_general_package(self) -> None:
        """Places of pyroomacoustics' image sources (R. Scheibler et al. 2018), to a millimetre."""
        room, source, listener = (7.0, 5.0, 3.0), (2.0, 3.5, 1.2), (4.5, 1.5, 1.7)
        built = pyroomacoustics.ShoeBox(room, fs=RATE_HZ, max_order=3)
        built.add_source(source)
        built.add_microphone(listener)
        built.image_source_model()
        theirs = (built.sources[0].images - np.array(listener)[:, None]).T
        ours = images_of(room, source, listener, 3)
        self.assertEqual(len(ours.away_m), len(theirs))
        apart = np.linalg.norm(ours.away_m[:, None] - theirs[None], axis=2)
        self.assertLess(apart.min(axis=1).max(), 1e-3)
        orders = built.sources[0].orders[apart.argmin(axis=1)]
        np.testing.assert_array_equal(ours.orders, orders)

    def test_reflections_come_from_their_sides(self) -> None:
        """Of a source at the left the left wall answers first, and louder at the left."""
        found = {}
        for channels in FORMATS[1:]:
            click = np.zeros((channels.count, 8 * PIECE), dtype=np.float32)
            click[0, 0] = 1.0
            reverb = NetworkReverb(early=0.9, predelay_ms=0.0, decay_s=0.5)
            running = reverb.start(channels, RATE_HZ, 0)
            found[channels.count] = running.process(click, Motion.still(reverb), 0)
        left, right = (np.sum(side[:1440] ** 2) for side in found[2])
        self.assertGreater(left, 1.3 * right)
        self.assertEqual(np.abs(found[6][3]).max(), 0.0)  # nothing in the LFE


class Held(unittest.TestCase):
    def run_held(
        self, seconds: float, channels: Channels = FORMATS[1], **parameters: Any
    ) -> np.ndarray:
        """Noise for half a second, then held, then let go at the end of `seconds`."""
        loose = NetworkReverb(predelay_ms=0.0, **{"decay_s": 1.5, **parameters})
        held = loose.model_copy(update={"hold": 1.0})
        running = loose.start(channels, RATE_HZ, 0)
        pieces = round(seconds * RATE_HZ) // PIECE
        begins, ends = 24, pieces - 24
        self.source = noise(channels.count, pieces * PIECE / RATE_HZ + 0.1, 3)
        parts = []
        for n in range(pieces):
            values = (
                Motion((0, PIECE), (loose, held))
                if n == begins
                else Motion((0, PIECE), (held, loose))
                if n == ends
                else Motion.still(held if begins < n < ends else loose)
            )
            block = self.source[:, n * PIECE : (n + 1) * PIECE]
            parts.append(running.process(block, values, n * PIECE))
        return np.concatenate(parts, axis=1)

    def test_what_is_held_neither_falls_nor_grows(self) -> None:
        """A minute, within 0.2 dB from its first second to its last: the matrix is lossless."""
        for channels in FORMATS:
            sound = self.run_held(20.0 if channels.count > 2 else 60.0, channels, size=0.4)
            second = RATE_HZ
            powers = [
                float(np.mean(sound[:, at : at + second].astype(float) ** 2))
                for at in range(2 * second, sound.shape[1] - 2 * second, second)
            ]
            levels = 10.0 * np.log10(powers)
            self.assertLess(abs(levels[-5:].mean() - levels[:5].mean()), 0.2, channels)
            self.assertLess(np.ptp(levels), 2.5)

    def test_neither_holding_nor_letting_go_clicks(self) -> None:
        """Nothing bends the wave more than it is bent anyway."""
        sound = self.run_held(4.0)
        bend = np.abs(np.diff(sound, 2, axis=1)).max(axis=0)
        usual = np.quantile(bend[30 * PIECE : -30 * PIECE], 0.999)
        for piece in (24, 4 * RATE_HZ // PIECE - 24):
            self.assertLess(bend[(piece - 1) * PIECE : (piece + 2) * PIECE].max(), 1.6 * usual)

    def test_the_input_is_shut_out_or_heard(self) -> None:
        """Heard, it rings on top of what is held, as the same noise would by itself."""
        shut, heard = (self.run_held(6.0, hold_input=one) for one in ("shut", "heard"))
        late = slice(4 * RATE_HZ, 5 * RATE_HZ)
        powers = [float(np.mean(one[:, late] ** 2)) for one in (shut, heard)]
        self.assertGreater(powers[1], 1.5 * powers[0])
        # the difference is the room of what came meanwhile: nothing of it was there before
        self.assertLess(np.abs(heard - shut)[:, : 24 * PIECE].max(), 1e-6)

    def test_a_hold_begins_and_ends_where_it_is_set_whether_the_input_is_heard_or_not(self) -> None:
        """Within the piece in which it goes over, what is held has the losses of each moment."""
        loose = NetworkReverb(predelay_ms=0.0, decay_s=0.3, size=0.2)
        for heard in ("shut", "heard"):
            held = loose.model_copy(update={"hold": 1.0, "hold_input": heard})
            found = []
            for at in (0, PIECE // 2):  # the whole piece over, or in its second half
                running = loose.start(FORMATS[1], RATE_HZ, 0)
                running.process(noise(2, 1.0, 5)[:, : 40 * PIECE], Motion.still(loose), 0)
                quiet = np.zeros((2, PIECE), dtype=np.float32)
                running.process(quiet, Motion((at, PIECE), (loose, held)), 40 * PIECE)
                later = [running.process(quiet, Motion.still(held), 41 * PIECE) for _ in range(8)]
                found.append(float(np.mean(np.concatenate(later, axis=1) ** 2)))
            self.assertGreater(found[0], 1.05 * found[1], heard)  # it was held sooner

    def test_once_let_go_it_dies_away_as_it_is_set(self) -> None:
        loose = NetworkReverb(predelay_ms=0.0, decay_s=1.0, treble_decay=1.0)
        held = loose.model_copy(update={"hold": 1.0})
        running = loose.start(FORMATS[1], RATE_HZ, 0)
        sound = noise(2, 1.0, 5)[:, : 40 * PIECE]
        running.process(sound, Motion.still(loose), 0)
        quiet = np.zeros((2, PIECE), dtype=np.float32)
        running.process(quiet, Motion((0, PIECE), (loose, held)), 40 * PIECE)
        for n in range(200):
            running.process(quiet, Motion.still(held), (41 + n) * PIECE)
        running.process(quiet, Motion((0, PIECE), (held, loose)), 241 * PIECE)
        tails = [running.process(quiet, Motion.still(loose), (242 + n) * PIECE) for n in range(60)]
        level = 10.0 * np.log10([float(np.mean(one**2)) for one in tails])
        slope = np.polyfit(np.arange(60) * PIECE / RATE_HZ, level, 1)[0]
        self.assertAlmostEqual(-60.0 / slope, 1.0, delta=0.06)


def _any_setting() -> Any:
    """Any setting of the reverb, the ends of its ranges among them."""
    fields = {}
    for name, field in NetworkReverb.model_fields.items():
        bounds = range_of_field(field)
        if bounds and field.annotation is float:
            fields[name] = st.sampled_from([*bounds, field.default]) | st.floats(*bounds)
    return st.builds(NetworkReverb, **fields, hold_input=st.sampled_from(["shut", "heard"]))


class AnySetting(unittest.TestCase):
    @settings(max_examples=40, deadline=None)
    @given(_any_setting(), _any_setting(), st.sampled_from(FORMATS))
    def test_it_stays_bounded_and_finite_from_any_setting_to_any_other(
        self, one: NetworkReverb, other: NetworkReverb, channels: Channels
    ) -> None:
        running = one.start(channels, RATE_HZ, 0)
        sound = noise(channels.count, 0.5, 2)[:, : 20 * PIECE]
        out = [running.process(sound, Motion.still(one), 0)]
        out.append(running.process(sound[:, :PIECE], Motion((0, PIECE), (one, other)), 20 * PIECE))
        out.append(running.process(sound, Motion.still(other), 21 * PIECE))
        quiet = np.zeros_like(sound)
        for n in range(4):
            out.append(running.process(quiet, Motion.still(other), (41 + 20 * n) * PIECE))
        joined = np.concatenate(out, axis=1)
        self.assertTrue(np.isfinite(joined).all())
        loudest = 10.0 ** (max(one.wet_db, other.wet_db, 0.0) / 20.0)
        self.assertLess(np.abs(joined).max(), 40.0 * loudest * np.abs(sound).max())

    def test_a_room_that_grows_at_once_is_never_louder_than_before_and_after(self) -> None:
        """Losses and shelves almost cancel; half of the one and half of the other would not."""
        lively = NetworkReverb(
            decay_s=0.1, bass_decay=0.1, treble_decay=2.0, treble_corner_hz=1200.0, predelay_ms=0.0
        )
        for sizes in ((0.2, 3.0), (3.0, 0.2)):
            one, other = (lively.model_copy(update={"size": size}) for size in sizes)
            running = one.start(FORMATS[1], RATE_HZ, 0)
            sound = noise(2, 0.5, 2)[:, : 20 * PIECE]
            before = running.process(sound, Motion.still(one), 0)
            part = sound[:, :PIECE]
            while_it_grows = running.process(part, Motion((0, PIECE), (one, other)), 20 * PIECE)
            after = running.process(sound, Motion.still(other), 21 * PIECE)
            loud = max(np.abs(before).max(), np.abs(after[:, 10 * PIECE :]).max())
            self.assertLess(np.abs(while_it_grows).max(), 2.0 * loud)
            self.assertLess(np.abs(after).max(), 2.0 * loud)

    def test_half_held_it_falls_at_half_the_pace_and_never_grows(self) -> None:
        """What is lost a round is halved, in dB; treble that lives on does not make it grow."""
        reverb = NetworkReverb(decay_s=0.1, bass_decay=0.1, treble_decay=2.0, predelay_ms=0.0)
        running = reverb.start(FORMATS[1], RATE_HZ, 0)
        sound = noise(2, 0.5, 2)[:, : 20 * PIECE]
        half = reverb.model_copy(update={"hold": 0.5})
        running.process(sound, Motion.still(reverb), 0)
        quiet = np.zeros_like(sound)
        power = [
            float(np.mean(running.process(quiet, Motion.still(half), (20 + 20 * n) * PIECE) ** 2))
            for n in range(4)
        ]
        self.assertEqual(power, sorted(power, reverse=True))

    def test_it_falls_silent_and_no_number_is_too_small(self) -> None:
        """Exactly 0 in the end; on the way nothing so small that a processor works slowly on it."""
        reverb = NetworkReverb(decay_s=0.1, predelay_ms=0.0, early=0.5, diffusion=0.1, build_up=0.4)
        running = reverb.start(FORMATS[1], RATE_HZ, 0)
        running.process(noise(2, 0.3, 1)[:, : 8 * PIECE], Motion.still(reverb), 0)
        quiet = np.zeros((2, 16 * PIECE), dtype=np.float32)
        last = quiet
        for n in range(60):
            last = running.process(quiet, Motion.still(reverb), (8 + 16 * n) * PIECE)
            smallest = np.abs(last[last != 0.0]).min(initial=1.0)
            self.assertGreater(smallest, 1e-37)
        self.assertEqual(np.abs(last).max(), 0.0)

    def test_a_control_that_moves_neither_clicks_nor_cuts_the_tail(self) -> None:
        """Each number goes from one end of its range to the other within one piece."""
        for name, field in NetworkReverb.model_fields.items():
            bounds = range_of_field(field)
            if not bounds or name in ("wet_db", "mix", "decay_s", "hold", "predelay_ms"):
                continue  # levels and delays are meant to change what is heard
            start = NetworkReverb(decay_s=3.0, predelay_ms=0.0, early=0.3, sway_ms=0.1)
            ends = [start.model_copy(update={name: one}) for one in bounds]
            running = ends[0].start(FORMATS[1], RATE_HZ, 0)
            at = np.arange(60 * PIECE)
            tone = 0.2 * np.sin(2.0 * np.pi * 220.0 * at / RATE_HZ)
            tone *= np.interp(at, (0, 4 * PIECE, 36 * PIECE, 40 * PIECE), (0.0, 1.0, 1.0, 0.0))
            block = np.stack([tone, 0.7 * tone]).astype(np.float32)
            parts = [running.process(block[:, : 40 * PIECE], Motion.still(ends[0]), 0)]
            for n in range(40, 60):
                moves = Motion((0, PIECE), tuple(ends)) if n == 44 else Motion.still(ends[n > 44])
                part = block[:, n * PIECE : (n + 1) * PIECE]
                parts.append(running.process(part, moves, n * PIECE))
            sound = np.concatenate(parts, axis=1).astype(float)
            bend = np.abs(np.diff(sound, 2, axis=1)).max(axis=0)
            loud = bend[20 * PIECE : 40 * PIECE].max()
            self.assertLess(bend[44 * PIECE - 2 :].max(), 2.0 * loud + 1e-4, name)
            power = [np.mean(sound[:, n * PIECE : (n + 2) * PIECE] ** 2) for n in (42, 46)]
            if name not in ("treble_decay", "bass_decay", "damping", "low_cut_hz", "high_cut_hz"):
                self.assertGreater(power[1], 0.05 * power[0], name)


class Width(unittest.TestCase):
    def test_narrowed_channels_keep_their_energy_and_lose_their_difference(self) -> None:
        sound = noise(2, 1.0, 4)
        for width in (0.0, 0.4, 1.0):
            heard = narrowing(FORMATS[1], width) @ sound
            np.testing.assert_allclose(
                np.mean(heard**2, axis=1), np.mean(sound**2, axis=1), rtol=0.05
            )
        same = narrowing(FORMATS[1], 0.0) @ sound
        np.testing.assert_allclose(same[0], same[1])
        self.assertTrue((narrowing(FORMATS[2], 0.2)[3, :3] == 0.0).all())
        np.testing.assert_array_equal(np.diag(narrowing(FORMATS[3], 0.0)), [1.0, *[0.0] * 15])
