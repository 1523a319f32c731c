"""A whole mix in which everything moves, played live in stretches of any length: as it is rendered.

Every kind of processor and of placement, with a lane on each of its values that can have one.
"""

from collections.abc import Iterator
from typing import Any

import numpy as np

from metaphon.core.document.mix import Placement
from metaphon.core.document.value_paths import movable_range
from metaphon.core.engine.live import FADE_FRAMES, Player
from metaphon.core.engine.plan import compile
from metaphon.core.engine.render import render
from metaphon.core.process.registry import KINDS
from metaphon.core.spaces.shipped import FOLDER
from tests.core.test_alone import movable
from tests.core.test_seams import PLACED
from tests.runner import long_test
from tests.sounds import RATE_HZ, FolderTest, noise, outputs_of


class EverythingMoves(FolderTest):
    def lanes(self, seconds: float, track: dict[str, Any]) -> Iterator[dict[str, Any]]:
        """A lane on each value of a track, its points at odd times, some in steps."""
        own = self.mix([{**track, "sends": []}]).tracks[0]
        values = [("gain_db", -12.0, 3.0), ("sends/room/level_db", -20.0, -6.0)]
        for name in Placement.model_fields:
            if found := movable_range(own, ("placement", name)):
                values.append((f"placement/{name}", *found))
        for place, processor in enumerate(track["chain"]):
            values += [
                (f"chain/{place}/{name}", low, high)
                for name, low, high in movable(processor["kind"])
            ]
        for path, low, high in values:
            count = max(3, round(seconds / 3.0))
            times = np.sort(self.chance.uniform(0.0, seconds, count)).round(4)
            heights = low + (high - low) * self.chance.uniform(0.3, 0.7, count)
            yield {
                "target": f"{track['id']}/{path}",
                "points": [
                    {"t_s": float(t), "value": float(v), "curve": curve}
                    for t, v, curve in zip(
                        times, heights, self.chance.choice(["linear", "hold"], count), strict=True
                    )
                ],
            }

    def moving(self, seconds: float) -> Any:
        self.chance = np.random.default_rng(11)
        kinds = sorted(KINDS)
        tracks, lanes = [], []
        for number, (name, placement) in enumerate(PLACED.items()):
            channels = {"bed": 6, "scene": 4, "dual band": 4}.get(name, 1)
            self.write(f"{name}.wav", noise(channels, seconds, number, 0.05))
            chain = [self.processor(kinds[(2 * number + k) % len(kinds)]) for k in range(2)]
            track = {
                "id": f"t{number}",
                "name": name,
                "sound": f"{name}.wav",
                "placement": placement,
                "chain": chain,
                "sends": [{"bus": "room", "level_db": -10.0}],
            }
            lanes += self.lanes(seconds, track)
            tracks.append(track)
        self.write("stereo.wav", noise(2, seconds, 50, 0.05))
        pair = {
            "id": "pair",
            "name": "pair",
            "sound": "stereo.wav",
            "placement": {"layout": "0+2+0"},
            "chain": [self.processor(kind) for kind in ("virtual_pair", "widener", "doubler")],
            "sends": [{"bus": "room", "level_db": -10.0}],
        }
        lanes += self.lanes(seconds, pair)
        room = {"id": "room", "name": "Room", "chain": [{"kind": "network_reverb", "decay_s": 0.6}]}
        return self.mix([*tracks, pair], buses=[room], automation=lanes)

    def processor(self, kind: str) -> dict[str, Any]:
        found: dict[str, Any] = {"kind": kind}
        if kind == "eq":
            found["bands"] = [{"shape": "bell", "frequency_hz": 700.0, "gain_db": 6.0}]
        if kind == "convolution_reverb":
            found["file"] = str(FOLDER / "boat_shed_omnis_near.flac")
        return found

    def hold(self, seconds: float, *targets: str) -> None:
        mix = self.moving(seconds)
        plan, outputs = compile(mix), outputs_of(*targets)
        player = Player(compile(mix), outputs)
        self.addCleanup(player.close)
        stretches = np.random.default_rng(5)
        rendered = [np.zeros((0, 0), np.float32)] * len(outputs)
        blocks = render(plan, outputs)
        done, end = 0, round(seconds * RATE_HZ)
        off, loudest = np.zeros(len(outputs)), np.zeros(len(outputs))
        while done < end:
            first, live = player.take(int(stretches.integers(300, 4096)))
            frames = next(iter(live.values())).shape[1]
            while rendered[0].shape[1] < frames:
                more = next(blocks)
                rendered = [
                    np.concatenate([old, new], axis=1) if old.size else new
                    for old, new in zip(rendered, more, strict=True)
                ]
            self.assertEqual(first, done)
            begin = max(FADE_FRAMES - done, 0)  # it rises from silence
            for n, output in enumerate(outputs):
                kept = rendered[n][:, :frames]
                apart = np.abs(live[output] - kept)[:, begin:]
                off[n] = max(off[n], apart.max(initial=0.0))
                loudest[n] = max(loudest[n], np.abs(kept).max(initial=0.0))
            rendered = [one[:, frames:] for one in rendered]
            done += frames
        for target, worst, loud in zip(targets, off, loudest, strict=True):
            with self.subTest(target):
                self.assertGreater(loud, 0.05)
                self.assertLess(20.0 * np.log10(worst / loud + 1e-12), -100.0)

    def test_a_short_mix(self) -> None:
        self.hold(3.0, "4+7+0", "binaural")

    @long_test
    def test_a_long_mix(self) -> None:
        self.hold(20.0, "0+2+0", "4+7+0", "binaural", "scene3")
