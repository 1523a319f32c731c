"""An engine in a process of its own: what it sends, how far ahead it works, and what it answers."""

import json
import multiprocessing
import threading
import time
from collections.abc import Callable
from typing import Any

import numpy as np

from metaphon.core.listen.monitor import NOW
from metaphon.core.listen.serving import Server
from metaphon.core.listen.stream_clock import LEAD_S, LONG_FRAMES, TRUST_S
from tests.sounds import RATE_HZ, FolderTest, sine, unpacked

STATE: dict[str, Any] = {
    "monitor_sources": {"a": {"target": "0+2+0"}, "b": {}},
    "monitor": {},
    "loop": None,
    "comparing": False,
    "active": "a",
    "matched": True,
}


class Engine(FolderTest):
    def setUp(self) -> None:
        super().setUp()
        self.write("tone.wav", np.repeat(sine(440.0, 4.0, -12.0)[None], 2, axis=0))
        self.pipe, there = multiprocessing.Pipe()
        self.addCleanup(self.pipe.close)
        self.thread = threading.Thread(target=Server(there, RATE_HZ).run, daemon=True)
        self.thread.start()
        self.stretches: list[dict[str, Any]] = []
        self.sounds: list[np.ndarray] = []
        self.said: list[dict[str, Any]] = []
        self.mix_now = self.mix(
            [{"sound": "tone.wav", "placement": {"mode": "bed", "layout": "0+2+0"}}]
        )

    def tell(self, *message: Any) -> None:
        self.pipe.send(message)

    def do(self, what: str, **rest: Any) -> None:
        self.tell("do", {"do": what, **rest})

    def begin(self, at: int = 0) -> None:
        self.tell("document", NOW, self.mix_now, [])
        self.tell("state", STATE)
        before = len(self.stretches)
        self.do("play", at=at)
        self.until(lambda: len(self.stretches) > before)

    def until(self, ready: Callable[[], object]) -> None:
        """Take what comes until something holds; a slow machine is no fault."""
        while not ready():
            self.assertTrue(self.pipe.poll(60), "this did not come about in time")
            self.take()

    def hear(self, quiet_s: float = 0.4) -> None:
        """Take what comes until nothing has come for a while."""
        while self.pipe.poll(quiet_s):
            self.take()

    def take(self) -> None:
        data = self.pipe.recv_bytes()
        if data[:1] == b"{":
            self.said.append(json.loads(data))
            return
        header, samples = unpacked(data)
        self.assertEqual(samples.shape[1], header["frames"])
        self.stretches.append(header)
        self.sounds.append(samples)

    @property
    def reached(self) -> int:
        return self.stretches[-1]["stream"] + self.stretches[-1]["frames"] if self.stretches else 0

    def test_it_works_ahead_of_what_was_played_and_no_further(self) -> None:
        lead = int(LEAD_S * RATE_HZ)
        self.begin()
        self.until(lambda: self.reached >= lead)
        self.hear()
        self.assertLess(self.reached, lead + LONG_FRAMES)
        # told that this much was played, it goes on by the clock for half a second at the most
        self.do("played", epoch=1, frames=LONG_FRAMES, gaps=0)
        self.until(lambda: self.reached > LONG_FRAMES + lead + LONG_FRAMES)
        self.hear(1.0)
        most = LONG_FRAMES + int((LEAD_S + TRUST_S) * RATE_HZ) + LONG_FRAMES
        self.assertLessEqual(self.reached, most)
        before = self.reached
        self.do("played", epoch=1, frames=before, gaps=0)
        self.until(lambda: self.reached > before)

    def test_stretches_join_and_are_what_was_rendered(self) -> None:
        self.begin(at=RATE_HZ)
        for _ in range(4):
            before = self.reached
            self.do("played", epoch=1, frames=before, gaps=0)
            self.until(lambda: self.reached > before)  # noqa: B023 - it is asked within the round
        ends = np.cumsum([0] + [header["frames"] for header in self.stretches])[:-1].tolist()
        self.assertEqual([header["stream"] for header in self.stretches], ends)
        self.assertEqual(
            [header["first"] for header in self.stretches], [RATE_HZ + end for end in ends]
        )
        heard = np.concatenate(self.sounds, axis=1)
        wanted = self.rendered(self.mix_now, "0+2+0")[:, RATE_HZ : RATE_HZ + heard.shape[1]]
        settled = slice(1024, None)  # it begins in the middle of a sound, with a short rise
        np.testing.assert_allclose(heard[:, settled], wanted[:, settled], atol=1e-5)

    def test_a_report_of_another_place_counts_for_nothing(self) -> None:
        self.begin()
        self.hear()
        self.do("jump", at=2 * RATE_HZ)
        self.until(lambda: self.stretches[-1]["epoch"] == 2 and self.reached >= LEAD_S * RATE_HZ)
        self.hear()
        self.assertEqual([m["at"] for m in self.said if "at" in m], [0, 2 * RATE_HZ])
        before = self.reached
        self.do("played", epoch=1, frames=90000, gaps=0)
        self.hear()
        self.assertEqual(self.reached, before)

    def test_a_gap_makes_it_work_further_ahead(self) -> None:
        self.begin()
        self.hear()
        self.do("played", epoch=1, frames=0, gaps=1)
        self.until(lambda: any(m.get("gap") for m in self.said))
        leads = [m["lead_ms"] for m in self.said if m.get("gap")]
        self.assertEqual(leads, [round(LEAD_S * 1000) + 20])

    def test_what_it_costs_is_said_without_the_beginning(self) -> None:
        """The first second has the opening of files in it."""

        def loads() -> list[dict[str, Any]]:
            return [m for m in self.said if "load" in m]

        self.begin()
        while len(loads()) < 2:
            before = self.reached
            self.do("played", epoch=1, frames=before, gaps=0)
            self.until(lambda: self.reached > before)  # noqa: B023 - it is asked within the round
            time.sleep(0.05)
        first, second = loads()[:2]
        self.assertNotIn("cores", first)
        self.assertGreater(second["cores"], 0.0)

    def test_pause_ends_it_and_the_end_is_said(self) -> None:
        self.begin(at=4 * RATE_HZ - 1000)
        self.until(lambda: any(m.get("ended") for m in self.said))
        self.assertEqual([m["stream"] for m in self.said if m.get("ended")], [self.reached])
        self.begin()
        self.do("pause")
        self.hear()
        before = self.reached
        self.do("played", epoch=2, frames=before, gaps=0)
        self.hear()
        self.assertEqual(self.reached, before)

    def test_what_cannot_be_heard_is_said_and_it_lives_on(self) -> None:
        empty = self.mix_now.model_copy(update={"tracks": ()})
        self.tell("document", NOW, empty, [])
        self.tell("state", STATE)
        self.do("play", at=0)
        self.until(lambda: any("no sound yet" in m.get("message", "") for m in self.said))
        self.begin()

    def test_it_ends_when_the_other_side_is_gone(self) -> None:
        self.begin()
        self.hear()
        self.pipe.close()
        self.thread.join(10)
        self.assertFalse(self.thread.is_alive())

    def test_a_value_that_is_tried_is_heard_and_not_kept(self) -> None:
        self.begin()
        self.hear()
        loud = float(np.abs(self.sounds[-1]).max())
        self.tell(
            "preview",
            {"kind": "set", "strips": ["t0"], "path": "gain_db", "value": -60.0},
            "t0 gain_db",
            None,
        )
        for _ in range(8):
            before = self.reached
            self.do("played", epoch=1, frames=before, gaps=0)
            self.until(lambda: self.reached > before)  # noqa: B023 - it is asked within the round
        self.assertLess(float(np.abs(self.sounds[-1]).max()), 0.01 * loud)
        self.assertEqual(self.mix_now.tracks[0].gain_db, 0.0)
