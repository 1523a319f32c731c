"""A listening session in a process of its own.

Messages in, stretches of sound with their readings out.
"""

import json
import struct
import time
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from multiprocessing.connection import Connection
from typing import Any

import numpy as np

from metaphon.core.document.mix import Mix
from metaphon.core.errors import InputError
from metaphon.core.listen.compare import Blind
from metaphon.core.listen.monitor import NOW, MonitorSource
from metaphon.core.listen.priority import come_first
from metaphon.core.listen.session import Session
from metaphon.core.listen.stream_clock import STRETCH_FRAMES, StreamClock
from metaphon.core.listen.trials import Trials
from metaphon.core.listen.wishes import Hearing, Wish
from metaphon.core.presence import Bring, brought_by
from metaphon.core.process.impulse_response import behind

_BUSY = 0.85  # of real time: from here on it is said that the mix is too heavy
_BUSY_FOR = 3
_REPORT_S = 1.0


def packed(header: dict[str, Any], samples: np.ndarray) -> bytes:
    """A stretch as it travels.

    The length of the header, the header as JSON, then 32-bit floats frame by frame.
    """
    text = json.dumps(header, separators=(",", ":")).encode()
    text += b" " * (-len(text) % 4)  # so that the samples are aligned
    return (
        struct.pack("<I", len(text)) + text + np.ascontiguousarray(samples.T, dtype="<f4").tobytes()
    )


def serve(pipe: Connection, rate_hz: int, bring: Bring | None = None) -> None:
    """Answer messages until the pipe closes.

    In: ("document", name, Mix or changes of it, ids of the edits in it), ("forget", name),
    ("state", dict), ("do", dict), ("preview", command, control, id of the edit or None),
    ("release", control), ("crowded", whether many listen on this machine). Out:
    packed stretches, or JSON text for everything else. `bring` is how files are brought here.
    """
    brought_by(bring)
    with ThreadPoolExecutor(max_workers=1) as beside:
        behind.work_with(beside.submit)
        Server(pipe, rate_hz).run()


class Server:
    """The session with its clock.

    It works ahead of what has been played, never further than the lead.
    """

    def __init__(self, pipe: Connection, rate_hz: int) -> None:
        self._pipe = pipe
        self._session = Session(rate_hz)
        self._rate_hz = rate_hz
        self._playing = False
        self._eager = False
        self._epoch = 0
        self._clock = StreamClock(rate_hz)
        self._trials = Trials()
        self._work_s = 0.0
        self._processor_s = 0.0
        self._sound_s = 0.0
        self._reported = time.monotonic()
        self._fresh = True  # the first second costs more than those that follow
        self._busy = 0  # how many reports in a row it was too much

    def run(self) -> None:
        """Work until the other side is gone."""
        try:
            while True:
                wait = self._wait_s
                while self._pipe.poll(wait):
                    self._take(self._pipe.recv())
                    wait = 0.0
                if self._wait_s == 0.0:
                    self._stretch()
        except (EOFError, BrokenPipeError, ConnectionResetError):
            pass
        finally:
            self._session.close()

    @property
    def _wait_s(self) -> float | None:
        return self._clock.wait_s if self._playing else None

    def _say(self, **message: Any) -> None:
        self._pipe.send_bytes(json.dumps(message).encode())

    def _take(self, message: tuple[Any, ...]) -> None:
        kind, *rest = message
        try:
            if kind == "document":
                name, mix, edits = rest
                self._session.set_document(
                    name, self._trials.keep(mix, edits) if name == NOW else mix
                )
            elif kind == "forget":
                self._session.documents.pop(rest[0], None)
            elif kind == "state":
                self._hear(Hearing.model_validate(rest[0]))
            elif kind == "preview":
                self._heard(self._trials.try_out(*rest))
            elif kind == "crowded":
                self._clock.crowded = rest[0]
            elif kind == "release":
                self._heard(self._trials.release(rest[0]))
            else:
                self._do(Wish.model_validate(rest[0]))
        except InputError as error:
            self._say(message=str(error))

    def _heard(self, mix: Mix | None) -> None:
        """Let a trial be heard.

        One that cannot be is refused in words when it is sent to be kept.
        """
        if mix is not None:
            with suppress(InputError):
                self._session.set_document(NOW, mix)

    def _hear(self, wanted: Hearing) -> None:
        """Take over what the listener has set; what is as it was stays untouched."""
        session, loop = self._session, wanted.loop
        session.set_loop(
            (int(loop[0]), int(loop[1])) if loop and loop[1] - loop[0] >= STRETCH_FRAMES else None
        )
        if wanted.monitor != session.monitor:
            session.set_monitor(wanted.monitor)
        for side in ("a", "b"):
            monitor_source: MonitorSource = getattr(wanted.monitor_sources, side)
            if (
                monitor_source != session.monitor_sources[side]
                and monitor_source.source in session.documents
            ):
                session.hear(side, monitor_source)
        session.watch(wanted.watched)
        compared = (wanted.comparing, wanted.active, wanted.matched)
        if compared != (session.comparing, session.active, session.matched):
            session.compare(*compared)

    def _do(self, wish: Wish) -> None:
        session, do = self._session, wish.do
        if do == "play":
            self._begin(int(wish.at), True)
        elif do == "pause":
            self._playing = False
        elif do == "jump":
            self._begin(int(wish.at), self._playing)
        elif do == "played":
            if wish.epoch == self._epoch:
                least = None if wish.least is None else int(wish.least)
                self._clock.played(int(wish.frames), bool(wish.gaps), least)
                if wish.gaps:
                    self._say(gap=True, lead_ms=round(self._clock.lead_s * 1000))
        elif do == "reset":
            session.reset_meters()
        elif do == "blind":
            session.blind = Blind() if wish.on else None
        elif do == "answer" and session.blind:
            right = session.blind.answer(wish.side)
            blind = session.blind
            self._say(
                blind={
                    "right": right,
                    "of": blind.trials,
                    "score": blind.right,
                    "chance": round(blind.chance, 4),
                }
            )

    def _begin(self, at: int, playing: bool) -> None:
        if playing and not self._eager:
            self._eager = True  # not before, so that a newcomer's start does not disturb the others
            come_first()
        self._session.jump(at)
        self._fresh = True
        self._epoch += 1
        self._clock.begin()
        self._playing = playing
        self._say(epoch=self._epoch, at=self._session.at)

    def _stretch(self) -> None:
        began, before = time.perf_counter(), time.process_time()
        try:
            stretch = self._session.take(self._clock.frames)
        except InputError as error:
            self._playing = False
            self._say(message=str(error), stopped=True)
            return
        frames = stretch.samples.shape[1]
        header = {
            "epoch": self._epoch,
            "stream": self._clock.sent,
            "first": stretch.first,
            "frames": frames,
            "channels": len(stretch.samples),
            "readings": stretch.readings,
        }
        self._pipe.send_bytes(packed(header, stretch.samples))
        self._clock.sent += frames
        self._work_s += time.perf_counter() - began
        self._processor_s += time.process_time() - before
        self._sound_s += frames / self._rate_hz
        if self._session.ended:
            self._playing = False
            self._say(ended=True, epoch=self._epoch, stream=self._clock.sent)
        if time.monotonic() - self._reported > _REPORT_S:
            self._report()

    def _report(self) -> None:
        sound_s = max(self._sound_s, 1e-9)
        load = self._work_s / sound_s
        self._clock.settle(load)
        costs = sorted(self._session.costs.items(), key=lambda item: -item[1])[:3]
        total = max(self._work_s, 1e-9)
        said: dict[str, Any] = {
            "load": round(load, 3),
            "lead_ms": round(self._clock.lead_s * 1000),
        }
        if not self._fresh:
            said["cores"] = round(self._processor_s / sound_s, 3)
        self._fresh = False
        self._busy = self._busy + 1 if load > _BUSY else 0
        if self._busy >= _BUSY_FOR:
            said["dearest"] = [[strip, round(seconds / total, 2)] for strip, seconds in costs]
        self._say(**said)
        self._work_s = self._processor_s = self._sound_s = 0.0
        self._reported = time.monotonic()
