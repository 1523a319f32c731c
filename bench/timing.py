"""Times of two things in turn, so that a machine whose speed drifts is the same for both."""

import statistics
import time
from collections.abc import Callable

Work = Callable[[], object]


def seconds(work: Work) -> float:
    began = time.perf_counter()
    work()
    return time.perf_counter() - began


def in_turn(*works: Work, rounds: int = 5) -> list[float]:
    """The median seconds of each, run one after the other `rounds` times after one round to warm
    up.
    """
    for work in works:
        work()
    runs = [[seconds(work) for work in works] for _ in range(rounds)]
    return [statistics.median(times) for times in zip(*runs, strict=True)]


def ratio(work: Work, plain: Work, rounds: int = 5) -> tuple[float, float]:
    """The median of work over plain, taken pair by pair, and the median seconds of the work."""
    for each in (work, plain):
        each()
    pairs = [(seconds(work), seconds(plain)) for _ in range(rounds)]
    return statistics.median(a / b for a, b in pairs), statistics.median(a for a, _ in pairs)


def best_in_turn(*works: Work, rounds: int = 3) -> list[float]:
    """The least seconds of each, run one after the other `rounds` times after one to warm up."""
    for work in works:
        work()
    runs = [[seconds(work) for work in works] for _ in range(rounds)]
    return [min(times) for times in zip(*runs, strict=True)]
