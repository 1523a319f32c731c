"""What is not refused can be played: every width in every placement, for every target."""

from itertools import product
from pathlib import Path
from typing import Any

import numpy as np

from metaphon.core.document.playable import refuse_unplayable
from metaphon.core.edits.arrangement import Place
from metaphon.core.edits.command import apply
from metaphon.core.edits.values import SetValue
from metaphon.core.engine.plan import compile
from metaphon.core.engine.render import render
from metaphon.core.errors import InputError
from metaphon.core.files.audio import probe
from metaphon.core.process.registry import KINDS
from metaphon.core.spatial.layouts import LAYOUTS
from tests.core.test_seams import TARGETS
from tests.sounds import FolderTest, noise, outputs_of

WIDTHS = {
    1: "",
    2: "",
    3: "",
    4: "",
    5: "",
    6: "",
    8: "",
    9: "",
    10: "4+5+0",
    12: "",
    16: "",
    24: "",
}


def channels_of(path: Path) -> int | None:
    return probe(path).channels


class Playable(FolderTest):
    def placed(self, channels: int, recorded: str, **placement: Any) -> Any:
        track = {"id": "t", "name": "Quay", "sound": f"{channels}.wav", "layout": recorded}
        return self.mix([{**track, "placement": placement}])

    def plays(self, mix: Any) -> None:
        outputs = outputs_of(*TARGETS)
        for blocks in render(compile(mix), outputs):
            self.assertTrue(all(np.isfinite(block).all() for block in blocks))
            return

    def test_every_width_in_every_placement(self) -> None:
        """What is taken plays; what is refused says the name of the track, and what to do."""
        taken = 0
        for channels, layout in WIDTHS.items():
            self.write(f"{channels}.wav", noise(channels, 0.05))
            before = self.placed(channels, layout, mode="none")
            for mode, bed in product(("bed", "object", "scene", "none"), ("0+2+0", "0+5+0")):
                after = self.placed(channels, layout, mode=mode, layout=bed)
                with self.subTest(channels=channels, mode=mode, bed=bed):
                    try:
                        refuse_unplayable(before, after, channels_of)
                    except InputError as refused:
                        self.assertRegex(str(refused), r"^Quay.*\.$")
                        with self.assertRaises(InputError):
                            compile(after)
                        continue
                    taken += 1
                    if mode != "none":  # which is silent
                        self.plays(after)
        self.assertGreater(taken, 50)

    def test_by_what_a_recording_is_said_to_be(self) -> None:
        """Six channels with an LFE are no objects; six of other loudspeakers are."""
        self.write("6.wav", noise(6, 0.05))
        no_lfe = "M+030 M-030 M+000 M+110 M-110 U+000"
        for layout, refused in (("0+5+0", True), (no_lfe, False)):
            before = self.placed(6, layout, mode="bed", layout="0+5+0")
            after = apply(before, Place(strips=("t",), mode="object"))
            with self.subTest(layout):
                if refused:
                    with self.assertRaisesRegex(InputError, "LFE"):
                        refuse_unplayable(before, after, channels_of)
                else:
                    refuse_unplayable(before, after, channels_of)
                    self.plays(after)

    def test_a_mix_that_cannot_be_played_may_be_mended_step_by_step(self) -> None:
        self.write("6.wav", noise(6, 0.05))
        broken = self.placed(6, "", mode="object")
        self.assertRaises(InputError, compile, broken)
        louder = apply(broken, SetValue(strips=("t",), path="gain_db", value=-3.0))
        refuse_unplayable(broken, louder, channels_of)
        other = apply(broken, Place(strips=("t",), mode="scene"))
        refuse_unplayable(broken, other, channels_of)
        mended = apply(other, Place(strips=("t",), mode="bed"))
        refuse_unplayable(other, mended, channels_of)
        self.plays(mended)

    def test_every_processor_on_every_width(self) -> None:
        """Whatever is put into a chain, the mix plays."""
        for channels in (1, 2, 3, 4, 6, 8, 9, 12, 16):
            self.write(f"{channels}.wav", noise(channels, 0.05))
            mode = "scene" if channels in (4, 9, 16) else "bed"
            track = {"id": "t", "name": "Quay", "sound": f"{channels}.wav"}
            for kind in KINDS:
                if kind == "convolution_reverb":
                    continue  # needs a file
                place = {"mode": mode, "layout": "0+5+0"}
                mix = self.mix([{**track, "placement": place, "chain": [{"kind": kind}]}])
                with self.subTest(channels=channels, kind=kind):
                    self.plays(mix)


class Layouts(FolderTest):
    def test_every_bed_bus(self) -> None:
        self.write("2.wav", noise(2, 0.05))
        for name in LAYOUTS:
            track = {"id": "t", "name": "Quay", "sound": "2.wav", "output": "b"}
            for mode in ("bed", "object", "scene"):
                bus = {"id": "b", "name": "Room", "layout": name, "placement": {"mode": mode}}
                after = self.mix([track], buses=[bus])
                before = after.model_copy(update={"buses": ()})
                with self.subTest(layout=name, mode=mode):
                    try:
                        refuse_unplayable(before, after, channels_of)
                    except InputError as refused:
                        self.assertRegex(str(refused), r"^Room.*\.$")
                        self.assertRaises(InputError, compile, after)
                        continue
                    next(iter(render(compile(after), outputs_of("0+2+0", "binaural"))))
