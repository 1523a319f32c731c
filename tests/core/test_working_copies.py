"""Copies of what has to be decoded: the same samples, whatever becomes of the copies."""

import errno
import os
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import numpy as np
import soundfile

from metaphon.core.files import working_copies
from metaphon.core.files.audio import ClipReader
from metaphon.core.files.working_copies import CHUNK, WorkingReader

_FRAMES = 3 * CHUNK + 777
_PLACES = ((0, 100), (CHUNK - 50, 100), (-30, 60), (_FRAMES - 40, 90), (5, 2 * CHUNK), (-90, 80))


class WorkingCopies(unittest.TestCase):
    def setUp(self) -> None:
        scratch = tempfile.TemporaryDirectory()
        self.addCleanup(scratch.cleanup)
        self.copies = Path(scratch.name) / "copies"
        named = mock.patch.dict(os.environ, METAPHON_WORKING_COPIES=str(self.copies))
        named.start()
        self.addCleanup(named.stop)
        self.path = Path(scratch.name) / "a.flac"
        self.write(5)

    def write(self, seed: int) -> None:
        sound = np.random.default_rng(seed).normal(0.0, 0.1, (_FRAMES, 2))
        soundfile.write(self.path, sound, 48000, "PCM_24")

    def reader(self) -> WorkingReader:
        reader = WorkingReader(self.path)
        self.addCleanup(reader.close)
        return reader

    def same(self, reader: WorkingReader) -> None:
        plain = ClipReader(self.path)
        for first, frames in _PLACES:
            wanted = plain.read(first, frames)
            np.testing.assert_array_equal(reader.read(first, frames), wanted)
        plain.close()

    def test_the_samples_are_those_of_the_file_and_are_decoded_once(self) -> None:
        self.same(self.reader())
        plain, later = ClipReader(self.path), self.reader()
        with mock.patch.object(ClipReader, "_next", side_effect=AssertionError):
            found = [later.read(first, frames) for first, frames in _PLACES]
        for (first, frames), sound in zip(_PLACES, found, strict=True):
            np.testing.assert_array_equal(sound, plain.read(first, frames))
        plain.close()
        self.assertEqual(len(list(self.copies.iterdir())), 1)

    def test_another_sound_by_the_same_name_has_a_copy_of_its_own(self) -> None:
        self.same(self.reader())
        os.utime(self.path, ns=(1, 1))
        self.write(6)
        self.same(self.reader())

    def test_after_the_machine_began_anew_what_is_left_is_not_used(self) -> None:
        self.same(self.reader())
        (copy,) = self.copies.iterdir()
        copy.write_bytes(b"\1" * copy.stat().st_size)
        with mock.patch.object(Path, "read_bytes", return_value=b"another"):
            self.same(self.reader())

    def test_copies_may_be_thrown_away_or_cut_while_they_are_used(self) -> None:
        reader = self.reader()
        self.same(reader)
        (copy,) = self.copies.iterdir()
        os.truncate(copy, 5000)
        self.same(reader)
        copy.unlink()
        self.same(self.reader())

    def test_without_room_or_a_folder_it_reads_all_the_same(self) -> None:
        full = OSError(errno.ENOSPC, "full")
        with mock.patch.object(os, "pwrite", side_effect=full):
            self.same(self.reader())
        self.copies.rename(self.copies.with_name("before"))
        self.copies.write_bytes(b"")
        self.same(self.reader())
        self.copies.unlink()
        self.copies.symlink_to("/tmp")
        self.same(self.reader())
        self.assertTrue(self.copies.is_symlink())

    def test_what_was_used_longest_ago_goes_first(self) -> None:
        self.copies.mkdir(mode=0o700)
        size = 4096 + 8 * _FRAMES
        for age, name in ((10, "young"), (30, "oldest"), (20, "old")):
            one = self.copies / f"{name}.samples"
            one.write_bytes(bytes(size * 6 // 5))
            os.utime(one, (1e9 - age, 1e9 - age))
        with mock.patch.object(working_copies, "_MOST_BYTES", 4 * size + 99):
            self.same(self.reader())
        names = {one.stem for one in self.copies.iterdir()}
        self.assertTrue({"young", "old"} <= names and "oldest" not in names, names)

    def test_what_is_too_long_gets_none(self) -> None:
        with mock.patch.object(working_copies, "_MOST_BYTES", 8 * _FRAMES):
            self.same(self.reader())
        self.assertEqual(list(self.copies.iterdir()), [])
