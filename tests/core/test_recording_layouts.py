"""A recording has a layout of its own: every layout out and back through every kind of file.

What other programs make of the files is asked of ffmpeg, a general-purpose tool from Debian, where
it is there.
"""

import json
import shutil
import struct
import subprocess
from pathlib import Path
from typing import Any

import numpy as np
import soundfile

from metaphon.core.adm.importing import import_file
from metaphon.core.document.channel_mapping import format_of
from metaphon.core.document.handover import Handover
from metaphon.core.edits.recording_layout import SetChannel, SetRecordingLayout
from metaphon.core.engine.naming import Names
from metaphon.core.engine.offline import render_to_files, runs_of
from metaphon.core.errors import InputError
from metaphon.core.files.channel_labels import (
    labels_of_mask,
    layout_told,
    mask_in,
    mask_of,
    names_in,
)
from metaphon.core.spatial.layouts import LAYOUTS
from metaphon.core.spatial.recording_layout import recorded_as
from tests.sounds import RATE_HZ, FolderTest, files_of

FRAMES = 4800
# the masks of WAVE_FORMAT_EXTENSIBLE and the order of its channels, as ffmpeg's libavutil names
# them (channel_layout.h), for the layouts that have one; from memory
WAVE = {
    "0+1+0": ("mono", "FC", "M+000"),
    "0+2+0": ("stereo", "FL FR", "M+030 M-030"),
    "0+3+0": ("3.0", "FL FR FC", "M+030 M-030 M+000"),
    "0+4+0": ("quad", "FL FR BL BR", "M+045 M-045 M+135 M-135"),
    "0+5+0": ("5.1", "FL FR FC LFE BL BR", "M+030 M-030 M+000 LFE1 M+110 M-110"),
    "0+7+0": (
        "7.1",
        "FL FR FC LFE BL BR SL SR",
        "M+030 M-030 M+000 LFE1 M+135 M-135 M+090 M-090",
    ),
    "2+5+0": ("", "FL FR FC LFE BL BR TFL TFR", "M+030 M-030 M+000 LFE1 M+110 M-110 U+030 U-030"),
    "4+5+0": (
        "",
        "FL FR FC LFE BL BR TFL TFR TBL TBR",
        "M+030 M-030 M+000 LFE1 M+110 M-110 U+030 U-030 U+110 U-110",
    ),
    "4+7+0": (
        "",
        "FL FR FC LFE BL BR SL SR TFL TFR TBL TBR",
        "M+030 M-030 M+000 LFE1 M+135 M-135 M+090 M-090 U+045 U-045 U+135 U-135",
    ),
    "4+9+0": (
        "",
        "FL FR FC LFE BL BR FLC FRC SL SR TFL TFR TBL TBR",
        "M+030 M-030 M+000 LFE1 M+135 M-135 M+SC M-SC M+090 M-090 U+045 U-045 U+135 U-135",
    ),
}
BITS = tuple(
    "FL FR FC LFE BL BR FLC FRC BC SL SR TC TFL TFC TFR TBL TBC TBR".split()  # noqa: SIM905
)


def each_its_own(channels: int) -> np.ndarray:
    """A level for each channel, so that one is known from another."""
    levels = 0.02 * np.arange(1, channels + 1)
    return np.repeat(levels[:, None], FRAMES, axis=1)


class OutAndBack(FolderTest):
    def bed(self, name: str, recorded: str = "", sound: np.ndarray | None = None) -> Any:
        layout = LAYOUTS[name]
        self.write("a.wav", each_its_own(layout.channels) if sound is None else sound)
        placement = {"mode": "bed", "layout": name}
        return self.mix([{"sound": "a.wav", "placement": placement, "layout": recorded or name}])

    def test_every_layout_through_every_container_and_back(self) -> None:
        for name, layout in LAYOUTS.items():
            for container in ("wav", "flac") if layout.channels <= 8 else ("wav",):
                with self.subTest(layout=name, container=container):
                    mix = self.bed(name)
                    [made] = files_of(mix, self.folder / "o", name, container=container)
                    wanted = WAVE[name][2].split() if name in WAVE else list(layout.labels)
                    raw, _ = soundfile.read(str(made.path), always_2d=True)
                    level = dict(
                        zip(layout.labels, each_its_own(layout.channels)[:, 0], strict=True)
                    )
                    np.testing.assert_allclose(
                        raw[FRAMES // 2], [level[label] for label in wanted], atol=1e-6
                    )
                    if container == "wav":
                        self.assertEqual(names_in(made.path), wanted)
                    mask = mask_in(made.path)
                    self.assertEqual(mask, self.wave_mask(name))
                    told = layout_told(made.path, layout.channels)
                    if container == "wav" or name in WAVE:
                        self.assertEqual(recorded_as(told).layout.labels, layout.labels)
                    else:
                        told = name
                    again = self.mix(
                        [
                            {
                                "clips": [{"file": str(made.path)}],
                                "placement": {"mode": "bed", "layout": name},
                                "layout": told,
                            }
                        ]
                    )
                    np.testing.assert_allclose(
                        self.rendered(again, name)[:, :FRAMES],
                        each_its_own(layout.channels),
                        atol=1e-6,
                    )

    def wave_mask(self, name: str) -> int:
        if name not in WAVE:
            return 0
        return sum(1 << BITS.index(one) for one in WAVE[name][1].split())

    def test_every_layout_through_a_file_with_a_definition_and_back(self) -> None:
        for name, layout in LAYOUTS.items():
            with self.subTest(layout=name):
                asked = Handover(adm=True)
                [made], _ = render_to_files(
                    runs_of(self.bed(name), asked), self.folder / name, asked, Names("T")
                )
                mix, _ = import_file(made.path, self.folder / f"{name} back")
                np.testing.assert_allclose(
                    self.rendered(mix, name)[:, :FRAMES], each_its_own(layout.channels), atol=1e-6
                )

    def test_ffmpeg_reads_the_same_names(self) -> None:
        if not shutil.which("ffprobe"):
            self.skipTest("ffmpeg is not here")
        for name, (called, order, _) in WAVE.items():
            for container in ("wav", "flac") if len(order.split()) <= 8 else ("wav",):
                [made] = files_of(self.bed(name), self.folder / "o", name, container=container)
                command = ["ffprobe", "-v", "error", "-show_streams", "-of", "json", str(made.path)]
                said = json.loads(subprocess.run(command, capture_output=True, check=True).stdout)
                shown = said["streams"][0].get("channel_layout", "")
                with self.subTest(layout=name, container=container):
                    if called:
                        # libavcodec takes six channels of FLAC for sides instead of rears
                        self.assertEqual(shown.removesuffix("(side)"), called)
                    else:
                        self.assertTrue(all(one in shown for one in order.split()), shown)

    def test_a_scene_and_two_ears_say_no_loudspeakers(self) -> None:
        mix = self.bed("0+2+0")
        for target, mask in (("scene1", 0), ("scene3", 0), ("binaural", 0x3)):
            [made] = files_of(mix, self.folder / "o", target)
            self.assertEqual(mask_in(made.path), mask)
        [made] = files_of(mix, self.folder / "o", "scene1", container="flac")
        self.assertEqual(mask_in(made.path), 0)  # four channels are not quad


class FromElsewhere(FolderTest):
    """Files that others have written, by hand from the published forms."""

    def wave(self, mask: int, channels: int) -> Path:
        """PCM of 16 bits with an extensible format, each channel a level of its own."""
        sound = (each_its_own(channels).T * 32767).astype("<i2").tobytes()
        guid = bytes.fromhex("0100000000001000800000aa00389b71")
        size = 2 * channels
        form = struct.pack(
            "<HHIIHHHHI", 0xFFFE, channels, RATE_HZ, RATE_HZ * size, size, 16, 22, 16, mask
        )
        body = b"fmt " + struct.pack("<I", 40) + form + guid
        body += b"data" + struct.pack("<I", len(sound)) + sound
        path = self.folder / f"{mask:x}.wav"
        path.write_bytes(b"RIFF" + struct.pack("<I", len(body) + 4) + b"WAVE" + body)
        return path

    def heard(self, path: Path, target: str, told: str, channels: int) -> dict[str, float]:
        placement = {"mode": "bed", "layout": target}
        track = {"clips": [{"file": str(path)}], "placement": placement, "layout": told}
        sound = self.rendered(self.mix([track]), target)[:, FRAMES // 2]
        return dict(zip(LAYOUTS[target].labels, sound.tolist(), strict=True))

    def test_masks_are_read(self) -> None:
        rears_first = self.wave(0x63F, 8)
        told = layout_told(rears_first, 8)
        heard = self.heard(rears_first, "0+7+0", told, 8)
        self.assertAlmostEqual(heard["M+135"], 0.10, places=3)
        self.assertAlmostEqual(heard["M+090"], 0.14, places=3)
        self.assertEqual(layout_told(self.wave(0x60F, 6), 6), "0+5+0")  # sides or rears
        centre_rear = self.wave(0x107, 4)
        self.assertEqual(layout_told(centre_rear, 4).split()[-1], "M+180")
        heard = self.heard(centre_rear, "9+10+3", layout_told(centre_rear, 4), 4)
        self.assertAlmostEqual(heard["M+180"], 0.08, places=3)
        self.assertEqual(layout_told(self.wave(0, 8), 8), "")
        self.assertEqual(layout_told(self.wave(0x3F, 8), 8), "")  # says of six of eight

    def test_every_mask_that_is_written_is_read_as_its_layout(self) -> None:
        for layout in LAYOUTS.values():
            mask, order = mask_of(layout)
            if mask:
                labels = labels_of_mask(mask)
                self.assertEqual([layout.labels[channel] for channel in order], list(labels))

    def test_a_recording_is_taken_for_the_bed_that_it_is_placed_in(self) -> None:
        """Where nothing says so: ten channels in a 5.1.4 bed, eight in 5.1.2, twelve in 7.1.3."""
        for name in ("4+5+0", "2+5+0", "3+7+0", "2+7+0", "4+5+1"):
            layout = LAYOUTS[name]
            self.write("a.wav", each_its_own(layout.channels))
            placement = {"mode": "bed", "layout": name}
            mix = self.mix([{"sound": "a.wav", "placement": placement}])
            np.testing.assert_allclose(
                self.rendered(mix, name), each_its_own(layout.channels), atol=1e-6
            )

    def test_it_is_changed_as_a_whole_and_channel_by_channel(self) -> None:
        self.write("a.wav", each_its_own(10))
        mix = self.mix([{"sound": "a.wav", "layout": "2+7+0"}])
        mix = SetRecordingLayout(strips=("t0",), layout="4+5+0").apply(mix)
        self.assertEqual(format_of(mix.tracks[0], 10).name, "4+5+0")
        swapped = SetChannel(
            strip="t0", channel=1, labels=LAYOUTS["4+5+0"].labels, label="M-030"
        ).apply(mix)
        self.assertEqual(swapped.tracks[0].layout.split()[:2], ["M-030", "M+030"])
        heard = self.rendered(swapped, "4+5+0")
        self.assertGreater(heard[0, 100], 0.0)
        for wrong in ("M+030 M+030", "M+031", "5.1"):
            with self.assertRaises(InputError):
                SetRecordingLayout(strips=("t0",), layout=wrong).apply(mix)
