"""Long runs of random edits while it plays.

Never a click, never a NaN, and in the end what a render gives.
"""

import random
from typing import Any

import numpy as np

from metaphon.core.document.targets import target_named
from metaphon.core.engine.live import Player
from metaphon.core.engine.plan import compile
from metaphon.core.engine.render import Output
from tests.runner import long_test
from tests.sounds import FolderTest, sine

_STRETCH = 2048
_SETTLES = 40  # stretches after the last edit until nothing rings any more: 1.7 s
_TONE_HZ = 100.0
OUTPUTS = tuple(Output(target_named(name)) for name in ("0+2+0", "0+5+0", "binaural"))


class ManyEdits(FolderTest):
    """Everything sounds at one low frequency, so a click would stand out as a bend of the curve."""

    def setUp(self) -> None:
        super().setUp()
        tone = sine(_TONE_HZ, 12.0, -18.0)
        self.write("one.wav", tone)
        self.write("pair.wav", np.stack([tone, np.roll(tone, 60)]))

    def start(self) -> dict[str, Any]:
        """A mix as plain values that `edit` changes in place."""
        place = {"mode": "object", "azimuth_deg": 20.0, "elevation_deg": 0.0}
        return {
            "tracks": [
                {"id": "a", "name": "A", "sound": "one.wav", "placement": dict(place), "sends": []},
                {
                    "id": "b",
                    "name": "B",
                    "sound": "pair.wav",
                    "placement": {"mode": "bed", "layout": "0+2+0"},
                    "chain": [{"kind": "basics"}],
                    "sends": [],
                },
                {
                    "id": "c",
                    "name": "C",
                    "sound": "one.wav",
                    "placement": {**place, "azimuth_deg": -110.0},
                    "sends": [],
                },
            ],
            "buses": [
                {
                    "id": "room",
                    "name": "Room",
                    "chain": [{"kind": "network_reverb", "decay_s": 0.2}],
                }
            ],
            "automation": [],
        }

    def edit(self, said: dict[str, Any], dice: random.Random) -> str:
        """One thing that a person might do; gives what it was, for the message of a failure."""
        track = dice.choice(said["tracks"])
        kind = dice.choice(
            ("gain", "mute", "place", "size", "width", "send", "output", "chain", "moves", "mode")
        )
        place = track["placement"]
        match kind:
            case "gain":
                track["gain_db"] = dice.uniform(-24.0, 3.0)
            case "mute":
                track["muted"] = not track.get("muted", False)
            case "place" if place["mode"] == "object":
                place.update(
                    azimuth_deg=dice.uniform(-180.0, 180.0), elevation_deg=dice.uniform(-30.0, 80.0)
                )
            case "size" if place["mode"] == "object":
                place.update(
                    extent_deg=dice.choice((0.0, 40.0, 180.0)), diffuseness=dice.choice((0.0, 0.5))
                )
            case "width":
                track["chain"] = [
                    {
                        "kind": "basics",
                        "width": dice.uniform(0.0, 1.5),
                        "polarity_inverted": dice.random() < 0.3,
                    }
                ]
            case "send":
                track["sends"] = (
                    []
                    if track["sends"]
                    else [{"bus": "room", "level_db": dice.uniform(-30.0, 0.0)}]
                )
            case "output":
                track["output"] = dice.choice(("programme", "room"))
            case "chain":
                band = {"shape": "bell", "frequency_hz": 100.0, "gain_db": dice.uniform(-9.0, 6.0)}
                phase = dice.choice(("minimum", "linear"))
                track["chain"] = dice.choice(
                    ([], [{"kind": "eq", "bands": [band], "phase": phase}])
                )
            case "moves" if place["mode"] == "object":
                name = f"{track['id']}/placement/azimuth_deg"
                kept = [lane for lane in said["automation"] if lane["target"] != name]
                path = [
                    {"t_s": float(t), "value": dice.uniform(-170.0, 170.0)} for t in range(0, 12, 3)
                ]
                said["automation"] = (
                    kept
                    if len(kept) < len(said["automation"])
                    else [*kept, {"target": name, "points": path}]
                )
            case "mode" if track["id"] != "b":
                track["placement"] = {
                    **place,
                    "mode": "none" if place["mode"] == "object" else "object",
                }
            case _:
                return "nothing"
        return f"{kind} of {track['id']}"

    def mixed(self, said: dict[str, Any]) -> Any:
        lanes = list(said["automation"])
        return self.mix(said["tracks"], buses=said["buses"], automation=lanes)

    def run_of(self, seed: int, edits: int) -> None:
        dice = random.Random(seed)
        said = self.start()
        player = Player(compile(self.mixed(said)), OUTPUTS, 4800)
        self.addCleanup(player.close)
        last = {output: np.zeros((output.target.channels, 2)) for output in OUTPUTS}
        done: list[str] = []

        def play(stretches: int) -> dict[Output, np.ndarray]:
            for _ in range(stretches):
                first, blocks = player.take(_STRETCH)
                for output, block in blocks.items():
                    joined = np.concatenate([last[output], block], axis=1)
                    self.assertTrue(np.isfinite(block).all(), done)
                    # the bend of a 100 Hz tone at full scale is 1.7e-4; a click's is its height
                    self.assertLess(
                        float(np.abs(np.diff(joined, n=2)).max()),
                        0.004,
                        (seed, output.target.name, done),
                    )
                    last[output] = block[:, -2:]
            return {output: blocks[output] for output in OUTPUTS} | {"first": first}  # type: ignore[dict-item]

        play(4)
        for _ in range(edits):
            done.append(self.edit(said, dice))
            player.change(compile(self.mixed(said)))
            play(dice.randint(1, 4))
        found: Any = play(_SETTLES)
        for output in OUTPUTS:
            wanted = self.rendered(self.mixed(said), output.target.name)
            wanted = wanted[:, found["first"] : found["first"] + _STRETCH]
            np.testing.assert_allclose(
                found[output][:, : wanted.shape[1]], wanted, atol=3e-4, err_msg=str((seed, done))
            )

    def test_some_edits(self) -> None:
        for seed in (1, 2):
            self.run_of(seed, 25)

    @long_test
    def test_a_great_many_edits(self) -> None:
        for seed in range(10, 34):
            with self.subTest(seed):
                self.run_of(seed, 45)
