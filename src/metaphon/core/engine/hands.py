"""Work shared by as many threads as there are cores; who waits for work does what else is there.

More threads than cores would wait for each other at the interpreter's lock.
"""

import os
from collections import deque
from collections.abc import Callable, Sequence
from threading import Condition, Thread
from typing import Any, Generic, Self, TypeVar

T = TypeVar("T")


class Work(Generic[T]):
    """Something to be done once, by whoever is free; `then` waits for it."""

    def __init__(self, hands: "Hands", do: Callable[[], T]) -> None:
        self._hands = hands
        self._do = do
        self._result: T | None = None
        self._error: BaseException | None = None
        self.then: list[Work[Any]] = []
        self.is_done = False

    def result(self) -> T:
        """What it gave, or raises what it raised; other work is done while it is waited for."""
        self._hands.work_until(lambda: self.is_done)
        if self._error is not None:
            raise self._error
        return self._result  # type: ignore[return-value]

    def run(self) -> None:
        """Do it, by one of the hands."""
        try:
            self._result = self._do()
        except BaseException as error:  # for whoever asks for the result
            self._error = error


class Hands:
    """The thread that asks and as many more as there are further cores.

    What is asked for by `all_of` comes before what is asked for by `later`.
    """

    def __init__(self) -> None:
        self._now: deque[Work[Any]] = deque()
        self._later: deque[Work[Any]] = deque()
        self._news = Condition()
        self._is_over = False
        self._helpers = [
            Thread(target=self.work_until, args=(lambda: self._is_over,), name="hands", daemon=True)
            for _ in range((os.cpu_count() or 2) - 1)
        ]

    def all_of(self, works: Sequence[Callable[[], T]]) -> list[T]:
        """What some pieces of work give, in their order; this thread does its share.

        Raises what the first of them raised that did, once all are over.
        """
        asked = [Work(self, do) for do in works]
        with self._news:
            self._now.extend(asked)
            self._news.notify_all()
        self.work_until(lambda: all(work.is_done for work in asked))
        return [work.result() for work in asked]

    def later(self, do: Callable[[], T], after: Work[Any] | None = None) -> Work[T]:
        """Have something done, one thing after the other in the order that it is asked for.

        It waits for what it comes after.
        """
        work = Work(self, do)
        with self._news:
            if after is not None and not after.is_done:
                after.then.append(work)
            else:
                self._later.append(work)
                self._news.notify()
        return work

    def work_until(self, is_over: Callable[[], bool]) -> None:
        """Do what there is to do, or wait for more, until something is so."""
        while True:
            with self._news:
                while not (over := is_over()) and not self._now and not self._later:
                    self._news.wait()
                if over:
                    return
                work = (self._now or self._later).popleft()
            work.run()
            with self._news:
                work.is_done = True
                self._later.extendleft(work.then)  # what follows is older than what came since
                self._news.notify_all()

    def __enter__(self) -> Self:
        for helper in self._helpers:
            helper.start()
        return self

    def __exit__(self, *error: object) -> None:
        with self._news:
            self._is_over = True
            self._news.notify_all()
        for helper in self._helpers:
            helper.join()
