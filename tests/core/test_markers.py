"""Markers of a mix, and cues in files."""

import struct

import soundfile

from metaphon.core.document.handover import Handover
from metaphon.core.edits.command import apply
from metaphon.core.edits.markers import AddMarker, RemoveMarker, SetMarker
from metaphon.core.engine.naming import Names
from metaphon.core.engine.offline import render_to_files, runs_of
from metaphon.core.errors import InputError, Vanished
from metaphon.core.files.cues import Cue, cue_chunks, cues_of
from metaphon.core.files.wave_chunks import add_chunks
from tests.sounds import FolderTest, sine


class Markers(FolderTest):
    def marked(self) -> object:
        self.write("a.wav", sine(300.0, 4.0, -20.0)[None])
        mix = self.mix([{"sound": "a.wav"}])
        for at_s, name in ((3.0, "Bell"), (0.5, "Lamp is lit"), (1.25, "Ødemark")):
            mix = apply(mix, AddMarker(at_s=at_s, name=name))
        return mix

    def test_they_stand_in_order_of_time(self) -> None:
        mix = self.marked()
        self.assertEqual([one.name for one in mix.markers], ["Lamp is lit", "Ødemark", "Bell"])
        bell = mix.markers[2].id
        mix = apply(mix, SetMarker(marker=bell, path="at_s", value="0,25 s"))
        mix = apply(mix, SetMarker(marker=bell, path="name", value="First bell"))
        self.assertEqual((mix.markers[0].at_s, mix.markers[0].name), (0.25, "First bell"))
        mix = apply(mix, RemoveMarker(marker=bell))
        self.assertEqual(len(mix.markers), 2)
        for command in (
            RemoveMarker(marker=bell),
            SetMarker(marker=bell, path="name", value="x"),
        ):
            with self.assertRaises(Vanished):
                apply(mix, command)
        with self.assertRaisesRegex(InputError, "0 to 86400"):
            apply(mix, SetMarker(marker=mix.markers[0].id, path="at_s", value="-1"))

    def test_every_file_has_those_that_lie_within_it(self) -> None:
        asked = Handover(
            targets=("0+2+0",),
            stems={"tracks": ("0+2+0",)},
            rate_hz=96000,
            start_s=0.4,
            end_s=2.4,
            lead_s=0.1,
        )
        mix = self.marked()
        results, _ = render_to_files(
            runs_of(mix, asked),
            self.folder / "out",
            asked,
            Names("T"),
            span_s=(asked.start_s, asked.end_s),
        )
        wanted = [Cue(19200, "Lamp is lit"), Cue(91200, "Ødemark")]
        for one in results:
            self.assertEqual(cues_of(one.path), wanted, one.path.name)

    def test_they_are_read_by_libsndfile(self) -> None:
        """Its log of a header lists cue points and their labels."""
        path = self.write("a.wav", sine(300.0, 1.0, -20.0)[None])
        add_chunks(path, cue_chunks([Cue(4800, "Lamp"), Cue(24001, "Bell buoy")]))
        with soundfile.SoundFile(str(path)) as file:
            told = file.extra_info
            self.assertEqual(file.frames, 48000)
        self.assertRegex(told, r"Count : 2")
        self.assertRegex(told, r"Cue ID :\s+1\s.*Offset :\s+4800\b")
        self.assertRegex(told, r"Cue ID :\s+2\s.*Offset :\s+24001\b")
        self.assertIn("Bell buoy", told)

    def test_what_is_broken_has_none(self) -> None:
        for content in (b"", b"\xff\xff\xff\xff", struct.pack("<I", 5) + b"half a point"):
            path = self.write("b.wav", sine(300.0, 0.1, -20.0)[None])
            add_chunks(path, {b"cue ": content, b"LIST": b"adtllabl\xff\xff\xff\x7fab"})
            self.assertEqual(cues_of(path), [])
        self.assertEqual(cue_chunks([Cue(-1, "before"), Cue(1 << 32, "too late")]), {})
