"""What is held at the end of a mix goes on, for as long as is asked, and then dies away."""

from typing import Any

import numpy as np

from metaphon.core.document.targets import target_named
from metaphon.core.engine.live import Player
from metaphon.core.engine.plan import compile, length_frames
from metaphon.core.engine.render import Output
from tests.sounds import RATE_HZ, FolderTest, noise

DECAY_S = 0.5
STRETCH = 4096


def level_db(sound: np.ndarray) -> float:
    return float(20 * np.log10(np.std(sound) + 1e-12))


class Held(FolderTest):
    """A chord of a second into a room whose hold is put on before it ends."""

    def held(self, markers: tuple[float, ...] = (), on: bool = True, **room: Any) -> Any:
        self.write("a.wav", noise(1, 1.0))
        network = {"kind": "network_reverb", "decay_s": DECAY_S, **room}
        points = [{"t_s": 0.0, "value": 0.0, "curve": "hold"}, {"t_s": 0.8, "value": float(on)}]
        return self.mix(
            [{"sound": "a.wav", "output": "hall"}],
            buses=[{"id": "hall", "name": "Hall", "chain": [network]}],
            automation=[{"target": "hall/chain/0/hold", "points": points}],
            markers=[{"id": f"m{at_s:g}", "at_s": at_s} for at_s in markers],
        )

    def assert_held_until(self, mix: Any, until_s: float) -> None:
        sound = self.rendered(mix, "0+2+0")
        self.assertEqual(sound.shape[1], length_frames(mix))
        during = [
            level_db(sound[:, round(t * RATE_HZ) : round((t + 0.2) * RATE_HZ)])
            for t in np.arange(1.2, until_s - 0.2, 0.5)
        ]
        self.assertLess(max(during) - min(during), 3.0)
        end = round(until_s * RATE_HZ)
        later = sound[:, end + round(DECAY_S * RATE_HZ) :][:, :4800]
        self.assertLess(level_db(later), during[-1] - 45.0)
        self.assertLess(20 * np.log10(np.abs(sound[:, -100:]).max()), -90.0)

    def test_for_a_time(self) -> None:
        self.assertEqual(self.held().buses[0].chain[0].hold_end_s, 10.0)  # as it is offered
        self.assert_held_until(self.held(hold_end_s=3.0), 4.0)

    def test_to_the_last_marker(self) -> None:
        self.assert_held_until(self.held((0.5, 4.5), hold_end="marker"), 4.5)
        self.assert_held_until(self.held((0.5,), hold_end="marker", hold_end_s=2.0), 3.0)

    def test_a_render_of_what_is_let_go_by_hand_waits_for_the_time(self) -> None:
        self.assert_held_until(self.held(hold_end="released", hold_end_s=2.0), 3.0)

    def test_what_is_let_go_before_the_end_adds_nothing(self) -> None:
        longer = length_frames(self.held(hold_end_s=30.0)) - length_frames(self.held(on=False))
        self.assertEqual(longer, 30 * RATE_HZ)

    def test_a_listener_lets_go(self) -> None:
        output = Output(target_named("0+2+0"))
        mix = self.held(hold_end="released", hold_end_s=0.5)
        player = Player(compile(mix, by_hand=True), (output,))
        self.addCleanup(player.close)
        played = [player.take(STRETCH)[1][output] for _ in range(6 * RATE_HZ // STRETCH)]
        self.assertFalse(player.ended)
        self.assertGreater(level_db(played[-1]), level_db(played[20]) - 3.0)
        free = self.held(on=False, hold_end="released", hold_end_s=0.5)
        player.change(compile(free, by_hand=True))
        rest = []
        while not player.ended and len(rest) < 100:
            rest.append(player.take(STRETCH)[1][output])
        self.assertLess(level_db(rest[-1]), -90.0)
        self.assertGreater(level_db(rest[2]), -60.0)  # it dies away, and is not cut
