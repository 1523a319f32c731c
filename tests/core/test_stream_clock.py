"""How far ahead of a listener the engine works, by a clock that is set by hand."""

import unittest
from unittest import mock

from metaphon.core.listen.stream_clock import (
    CROWDED_FRAMES,
    LEAD_S,
    LEAST_LEAD_S,
    LONG_FRAMES,
    SHORT_FRAMES,
    SPARE_S,
    STRETCH_FRAMES,
    TRUST_S,
    StreamClock,
)

RATE_HZ = 48000
_MS = 0.001


class Paces(unittest.TestCase):
    def setUp(self) -> None:
        clock = mock.patch("metaphon.core.listen.stream_clock.time.monotonic", lambda: self.now)
        clock.start()
        self.addCleanup(clock.stop)
        self.now = 1000.0
        self.pace = StreamClock(RATE_HZ)

    def fill(self) -> None:
        """Send all that is wanted now."""
        while self.pace.wait_s == 0.0:
            self.pace.sent += self.pace.frames

    def ahead_s(self, played_s: float) -> float:
        return self.pace.sent / RATE_HZ - played_s

    def test_before_anything_is_played_it_sends_its_lead_and_waits(self) -> None:
        self.fill()
        self.assertTrue(LEAD_S <= self.ahead_s(0.0) < LEAD_S + LONG_FRAMES / RATE_HZ)
        self.now += 10.0
        self.assertIsNone(self.pace.wait_s)  # only a report can tell

    def test_between_reports_it_goes_by_the_clock(self) -> None:
        self.fill()
        self.pace.played(0, False)
        wait_s = self.pace.wait_s
        assert wait_s
        self.assertAlmostEqual(wait_s, self.ahead_s(LEAD_S))
        self.now += wait_s - _MS
        self.assertAlmostEqual(self.pace.wait_s or 0.0, _MS)
        self.now += 2 * _MS
        self.assertEqual(self.pace.wait_s, 0.0)

    def test_without_reports_it_stops_before_long(self) -> None:
        self.fill()
        self.pace.played(0, False)
        self.now += 60.0
        self.fill()
        self.assertIsNone(self.pace.wait_s)
        self.assertTrue(LEAD_S <= self.ahead_s(TRUST_S) < LEAD_S + LONG_FRAMES / RATE_HZ)

    def test_a_late_report_does_not_hold_the_sound_up(self) -> None:
        self.fill()
        self.pace.played(0, False)
        self.now += 0.3
        self.pace.played(RATE_HZ // 10, False)  # it is 0.2 s old
        self.fill()
        self.assertGreaterEqual(self.ahead_s(0.3), LEAD_S - 6 * _MS)

    def test_a_listener_whose_clock_is_slower_is_followed(self) -> None:
        """A hundredth slower, reported twelve times a second.

        Never further ahead than a few milliseconds more.
        """
        self.fill()
        self.pace.played(0, False)
        for step in range(1, 500):
            self.now = 1000.0 + step * 0.085
            played_s = step * 0.085 * 0.99
            self.pace.played(round(played_s * RATE_HZ), False)
            self.fill()
            self.assertTrue(
                LEAD_S - _MS <= self.ahead_s(played_s) < LEAD_S + LONG_FRAMES / RATE_HZ + 5 * _MS
            )

    def test_whatever_is_reported_it_works_no_faster_than_sound_is_played(self) -> None:
        """Ten seconds of a page that says at once that all was played, or more than was sent."""
        for told in (lambda: self.pace.sent, lambda: 10**9):
            self.pace.begin()
            began = self.now
            for _ in range(1000):
                self.now += 0.01
                self.fill()
                self.pace.played(told(), False, 0)
                self.pace.played(told(), True, 0)
            most_s = (self.now - began) * 1.01 + 0.5 + LEAD_S + LONG_FRAMES / RATE_HZ
            self.assertLess(self.pace.sent / RATE_HZ, most_s)

    def test_after_a_gap_the_report_is_believed_and_the_lead_is_wider_for_a_while(self) -> None:
        self.fill()
        self.pace.played(0, False)
        self.now += 1.0
        self.fill()
        self.pace.played(RATE_HZ // 2, True)
        self.assertAlmostEqual(self.pace.lead_s, LEAD_S + 20 * _MS)
        self.fill()
        self.assertTrue(
            self.pace.lead_s <= self.ahead_s(0.5) < self.pace.lead_s + LONG_FRAMES / RATE_HZ
        )
        for _ in range(100):
            self.pace.played(0, True)
        self.assertEqual(self.pace.lead_s, 0.5)
        for _ in range(110):
            self.pace.settle(0.4)
        self.assertEqual(self.pace.lead_s, LEAD_S)

    def test_the_lead_is_what_was_used_of_late_and_a_little_more(self) -> None:
        def second(left_s: float) -> None:
            """In which so much was left at the least, of what a report tells."""
            self.pace.played(0, False, round(left_s * RATE_HZ))
            self.pace.played(0, False, RATE_HZ)
            self.pace.settle(0.1)

        for _ in range(40):
            second(self.pace.lead_s - 0.03)
        self.assertAlmostEqual(self.pace.lead_s, 0.03 + SPARE_S, delta=_MS)
        second(self.pace.lead_s - 0.045)  # once it was more: none is left over
        self.assertAlmostEqual(self.pace.lead_s, 0.045 + SPARE_S, delta=_MS)
        for _ in range(10):
            second(self.pace.lead_s - 0.03)
        self.assertAlmostEqual(self.pace.lead_s, 0.045 + SPARE_S, delta=_MS)
        for _ in range(20):
            second(self.pace.lead_s - 0.03)
        self.assertAlmostEqual(self.pace.lead_s, 0.03 + SPARE_S, delta=_MS)
        for _ in range(40):
            second(self.pace.lead_s)
        self.assertEqual(self.pace.lead_s, LEAST_LEAD_S)

    def test_who_does_not_tell_what_is_left_keeps_the_lead(self) -> None:
        for _ in range(40):
            self.pace.played(0, False)
            self.pace.settle(0.1)
        self.assertEqual(self.pace.lead_s, LEAD_S)

    def test_stretches_are_long_until_there_is_time_and_where_there_is_none(self) -> None:
        self.assertEqual(self.pace.frames, LONG_FRAMES)
        for load, frames in (
            (0.2, LONG_FRAMES),
            (0.1, STRETCH_FRAMES),
            (0.2, STRETCH_FRAMES),
            (0.1, SHORT_FRAMES),
            (0.2, SHORT_FRAMES),
            (0.3, STRETCH_FRAMES),
            (0.3, LONG_FRAMES),
            (0.3, LONG_FRAMES),
        ):
            self.pace.settle(load)
            self.assertEqual(self.pace.frames, frames)

    def test_where_many_listen_stretches_are_longest_and_further_ahead(self) -> None:
        for _ in range(20):
            self.pace.settle(0.1)
        self.pace.crowded = True
        self.pace.settle(0.1)
        self.assertEqual(self.pace.frames, CROWDED_FRAMES)
        self.assertGreaterEqual(self.pace.lead_s, 0.2)
        self.pace.crowded = False
        self.pace.settle(0.2)
        self.assertEqual(self.pace.frames, LONG_FRAMES)
        for _ in range(40):
            self.pace.played(0, False, RATE_HZ)
            self.pace.settle(0.1)
        self.assertEqual(self.pace.lead_s, LEAST_LEAD_S)
