"""Every reader of what somebody else has written, fed what nobody should write."""

import json
import struct
from collections.abc import Callable, Iterator
from importlib import import_module
from pathlib import Path
from pkgutil import walk_packages
from typing import Any
from unittest.mock import patch

import metaphon.core
from metaphon.core.document.mix import Mix
from metaphon.core.errors import InputError
from metaphon.core.files.apart import read_apart
from metaphon.core.foreign import FOREIGN_READERS, serving_pages
from tests.sounds import RATE_HZ, FolderTest, noise

_SUFFIXES = {
    "metaphon.core.listen.headphones.try_response": (".sofa", ".csv"),
    "metaphon.core.spatial.head.try_head": (".sofa",),
    "metaphon.core.spaces.response_files.as_flac": (".wav", ".sofa"),
}
_DEEP, _MUCH = 100_000, 3_000_000
_TEXT = (
    "metaphon.core.files.edit_exchange.taken",
    "metaphon.core.files.exchange_update.plan_update",
    "metaphon.core.files.lane_table.read",
    "metaphon.core.adm.channel_text.read",
)
# the readers, and what each takes: a text or a file with a suffix, and what is given beside it
_GIVEN: dict[str, Callable[[Any, Path], tuple[Any, ...]]] = {
    _TEXT[0]: lambda text, folder: (text, "x"),
    _TEXT[1]: lambda text, folder: (text, "x", Mix(), {}, {}),
    _TEXT[2]: lambda text, folder: (text, "gull"),
    _TEXT[3]: lambda text, folder: (text,),
    "metaphon.core.files.cues.cues_of": lambda path, folder: (path,),
    "metaphon.core.files.timecode_track.timecode_in": lambda path, folder: (path,),
    "metaphon.core.files.intake.take_in": lambda path, folder: (
        path,
        RATE_HZ,
        folder / "to.wav",
        "x.wav",
        10**9,
        print,
    ),
    "metaphon.core.adm.importing.claims_of": lambda path, folder: (path, 6, "WAV"),
    "metaphon.core.adm.importing.import_file": lambda path, folder: (path, folder / "to", "x"),
    "metaphon.core.listen.headphones.try_response": lambda path, folder: (path,),
    "metaphon.core.spatial.head.try_head": lambda path, folder: (path, RATE_HZ),
    "metaphon.core.spaces.response_files.as_flac": lambda path, folder: (
        path,
        folder / "to.flac",
        "x",
    ),
}


def texts() -> Iterator[str]:
    """Nested, huge, cut off, with NUL, of wrong kinds."""
    yield from ("", "\0", "a\0b,c\0", "{", "<", "\ufeff")
    yield "[" * _DEEP
    yield '{"OTIO_SCHEMA":' * _DEEP
    yield "<a>" * _DEEP
    yield '<!DOCTYPE a [<!ENTITY b "cccccccccc"><!ENTITY d "' + "&b;" * 9999 + '">]><a>&d;</a>'
    yield '{"OTIO_SCHEMA": "Timeline.1", "name": "' + "x" * _MUCH + '"}'
    yield "recording,start_s\n" + "x" * _MUCH + ",0\n"
    yield "recording,start_s\nx,0\n" * 30_000
    yield "at_s,name\n" + "1e400,x\n"
    yield "at_s\nnan\n"
    yield "parameter,t_s,value\n" + "gain_db,nan,inf\n"
    for metadata in (5, "x", [], None, {"gain_db": []}, {"place": "x"}, {"track_id": {"a": 1}}):
        yield _timeline(metadata, 24)
    for rate in (0, -1, float("1e308"), "x", None):
        yield _timeline({}, rate)


def _timeline(metadata: Any, rate: Any) -> str:
    """An OpenTimelineIO document whose one clip says something odd."""

    def time(value: float) -> dict[str, Any]:
        return {"OTIO_SCHEMA": "RationalTime.1", "rate": rate, "value": value}

    span = {"OTIO_SCHEMA": "TimeRange.1", "duration": time(24), "start_time": time(0)}
    clip = {
        "OTIO_SCHEMA": "Clip.1",
        "name": "x.wav",
        "metadata": {"metaphon": metadata},
        "source_range": span,
        "media_reference": None,
    }
    track = {"OTIO_SCHEMA": "Track.1", "kind": "Audio", "name": "x", "children": [clip]}
    stack = {"OTIO_SCHEMA": "Stack.1", "children": [track]}
    return json.dumps({"OTIO_SCHEMA": "Timeline.1", "name": "x", "tracks": stack})


class EveryReader(FolderTest):
    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        for module in walk_packages(metaphon.core.__path__, "metaphon.core."):
            import_module(module.name)

    def test_all_are_known_here(self) -> None:
        self.assertEqual(set(FOREIGN_READERS), set(_GIVEN))

    def test_none_reads_where_pages_are_served(self) -> None:
        for name, reader in FOREIGN_READERS.items():
            with serving_pages(), self.assertRaisesRegex(RuntimeError, "use read_apart"):
                reader(*_GIVEN[name]("", self.folder))

    def read(self, name: str, given: Any, **more: Any) -> None:
        """Let a reader have it: a sentence comes of it, or something that was told."""
        try:
            with patch("metaphon.core.files.apart.log"):  # which tells the operator why
                read_apart(
                    FOREIGN_READERS[name], *_GIVEN[name](given, self.folder), name="x", **more
                )
        except InputError as error:
            self.assertRegex(str(error), r"^[^\n]{10,600}\.$")

    def test_texts_of_every_kind_cost_one_sentence(self) -> None:
        for name in _TEXT:
            for text in texts():
                with self.subTest(name, text=text[:40]):
                    self.read(name, text)

    def test_files_of_every_kind_cost_one_sentence(self) -> None:
        whole = self.write("whole.wav", noise(2, 0.2)).read_bytes()
        chunk = b"junk" + struct.pack("<I", 0xFFFFFFF0)
        contents = (
            b"",
            b"\0" * 5000,
            whole[:40],
            whole[: len(whole) // 2],
            whole[:36] + chunk * 40 + whole[36:],
            whole.replace(b"data", b"axml", 1),
            b"RIFF" + b"\xff" * 9000,
            b"\x89HDF\r\n\x1a\n" + b"\xff" * 9000,
            b"fLaC" + b"\xff" * 9000,
            ("[" * _DEEP).encode(),
            b"1,2,3\n" * 400_000,
        )
        for name in set(_GIVEN) - set(_TEXT):
            for suffix in _SUFFIXES.get(name, (".wav",)):
                for number, content in enumerate(contents):
                    path = self.folder / f"{number}{suffix}"
                    path.write_bytes(content)
                    with self.subTest(name, number=number, suffix=suffix):
                        self.read(name, path, path=path)
