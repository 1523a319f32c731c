"""What is read in a process of its own: what ends it, and whether that was its own fault."""

import os
import signal
import time
import unittest
from pathlib import Path
from unittest.mock import patch

from metaphon.core.errors import InputError, MachineBusy
from metaphon.core.files.apart import MEMORY_BYTES, TooMuch, read_apart, work_apart

# by the clock: other tests may leave this one little of the machine
_PATIENT = "metaphon.core.files.apart._PATIENCE", 120.0


def sleep(seconds: float) -> None:
    """Stand for work that a busy machine gives no time."""
    time.sleep(seconds)


def spin() -> None:
    """Stand for a file that keeps its reader busy for ever."""
    while True:
        pass


def fill() -> int:
    """Stand for a file that wants all memory."""
    return len(bytearray(MEMORY_BYTES * 2))


def be_ended() -> None:
    """Stand for a process that a machine short of memory ends."""
    os.kill(os.getpid(), signal.SIGKILL)


class Ended(unittest.TestCase):
    def test_the_fault_of_the_machine_is_told_from_that_of_the_file(self) -> None:
        limits = (MEMORY_BYTES, 1.0)
        with self.assertRaises(MachineBusy):
            work_apart(sleep, 60.0, limits=(MEMORY_BYTES, 0.5))
        with self.assertRaises(MachineBusy):
            work_apart(be_ended, limits=limits)
        for work in (spin, fill):
            with self.subTest(work.__name__), self.assertRaises(TooMuch), patch(*_PATIENT):
                work_apart(work, limits=limits)

    def test_what_is_said_of_a_file(self) -> None:
        here = Path(__file__)
        for work, said in ((be_ended, "too busy to read x.wav"), (spin, "export it again")):
            with (
                self.assertRaisesRegex(InputError, said),
                patch(*_PATIENT),
                patch("metaphon.core.files.apart.log"),
            ):
                read_apart(work, path=here, name="x.wav", seconds=1.0)
