"""Threads that share work: everything is done once, in its order, and what fails is told."""

import threading
import time
import unittest
from functools import partial
from unittest.mock import patch

from metaphon.core.engine.hands import Hands, Work


class Shared(unittest.TestCase):
    def with_cores(self, count: int) -> Hands:
        with patch("os.cpu_count", return_value=count):
            return Hands()

    def test_answers_come_in_the_order_that_was_asked(self) -> None:
        for cores in (1, 2, 5):
            with self.subTest(cores), self.with_cores(cores) as hands:

                def late(n: int) -> int:
                    time.sleep(0.002 * (8 - n))
                    return n

                works = [lambda n=n: late(n) for n in range(8)]
                self.assertEqual(hands.all_of(works), list(range(8)))

    def test_one_after_the_other_while_others_are_waited_for(self) -> None:
        for cores in (1, 2, 5):
            with self.subTest(cores), self.with_cores(cores) as hands:
                done: list[tuple[str, int]] = []
                last: dict[str, Work[None]] = {}
                for n in range(6):
                    for lane in ("a", "b"):
                        add = partial(done.append, (lane, n))
                        last[lane] = hands.later(add, after=last.get(lane))
                    hands.all_of([lambda: time.sleep(0.001)] * 3)
                for work in last.values():
                    work.result()
                for lane in ("a", "b"):
                    self.assertEqual([n for name, n in done if name == lane], list(range(6)))

    def test_who_waits_works(self) -> None:
        """With one core there is nobody else."""
        with self.with_cores(1) as hands:
            self.assertIs(hands.later(threading.current_thread).result(), threading.main_thread())

    def test_what_fails_is_told_to_whom_asks_and_stops_nobody_else(self) -> None:
        def fails() -> None:
            raise ValueError("no")

        with self.with_cores(2) as hands:
            for _ in range(20):
                with self.assertRaisesRegex(ValueError, "no"):
                    hands.all_of([fails, lambda: None])
                first = hands.later(fails)
                then = hands.later(lambda: 7, after=first)
                self.assertEqual(then.result(), 7)
                with self.assertRaisesRegex(ValueError, "no"):
                    first.result()
            self.assertEqual(hands.all_of([lambda: 1, lambda: 2]), [1, 2])

    def test_its_threads_end_with_it(self) -> None:
        before = threading.active_count()
        with self.with_cores(4) as hands:
            hands.all_of([lambda: None])
            self.assertEqual(threading.active_count(), before + 3)
        self.assertEqual(threading.active_count(), before)
