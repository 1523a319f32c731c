"""Damaged files of every kind, and command lines of any sort: one sentence, never a fault."""

import contextlib
import io
import json
import os
import random
import traceback
from collections.abc import Callable
from pathlib import Path

import numpy as np
import sofar
import soundfile

from metaphon.cli import main
from metaphon.core.adm import channel_text
from metaphon.core.edits.registry import read_all
from metaphon.core.errors import InputError
from metaphon.core.files import lane_table
from metaphon.core.files.apart import MEMORY_BYTES, TooMuch, work_apart
from metaphon.core.files.intake import take_in
from metaphon.core.files.mixdoc import parse, read_json
from metaphon.core.listen.headphones import read_response
from metaphon.core.spatial.ambisonics import sphere_grid
from metaphon.core.spatial.head import load_head
from tests.core.test_edits import ALL
from tests.nasty import as_json, damaged, spoiled, text
from tests.runner import long_test
from tests.sounds import RATE_HZ, FolderTest, noise

_FILES, _QUICK = 2000, 10
_LINES, _QUICK_LINES = 1000, 25
_CONTAINERS = (
    *(("WAV", "PCM_24"), ("WAV", "FLOAT"), ("WAVEX", "PCM_16"), ("RF64", "PCM_24")),
    *(("W64", "PCM_24"), ("AIFF", "PCM_16"), ("CAF", "PCM_24"), ("FLAC", "PCM_16")),
    *(("OGG", "VORBIS"), ("MP3", "MPEG_LAYER_III")),
)
_TRACK = {"id": "a", "name": "A", "clips": [{"file": "a.wav"}], "chain": [{"kind": "basics"}]}
_DOCUMENT = {
    "format": "metaphon-mix",
    "title": "Pier",
    "tracks": [_TRACK],
    "buses": [{"id": "room", "name": "Room", "layout": "0+5+0"}],
    "automation": [{"target": "a/gain_db", "points": [{"t_s": 0.0, "value": -6.0}]}],
}


def _recording(path: Path) -> None:
    take_in(path, RATE_HZ, path.with_suffix(".converted.wav"), path.name)


def _head(path: Path) -> None:
    load_head(path, RATE_HZ).responses(np.eye(3))


def _document(path: Path) -> None:
    parse(read_json(path), path.name)


def _commands(path: Path) -> None:
    read_all(read_json(path))


def _lanes(path: Path) -> None:
    lane_table.read(path.read_text(errors="replace"), "a")


def _blocks(path: Path) -> None:
    channel_text.read(path.read_text(errors="replace"))


def _path_in_blocks() -> str:
    times, values = np.array([0.0, 0.5, 2.0]), np.zeros((6, 3))
    values[0], values[2] = (0.0, 90.0, -30.0), 1.0
    return channel_text.written("Gull", times, values, False, 3.0)


Kinds = list[tuple[Path, Callable[[Path], None]]]


def read_damaged(kinds: Kinds, seeds: range) -> list[str]:
    """Read each file damaged in as many ways as there are seeds; what was no sentence."""
    os.dup2(os.open(os.devnull, os.O_WRONLY), 2)  # decoders say a lot about what is damaged
    return [fault for path, read in kinds for fault in _faults(path, read, seeds)]


def _faults(seed_file: Path, read: Callable[[Path], None], seeds: range) -> list[str]:
    faults, known = [], set()
    whole = seed_file.read_bytes()
    path = seed_file.with_name(f"damaged{seed_file.suffix}")
    for seed in seeds:
        dice = random.Random(seed)
        if seed_file.suffix == ".json" and dice.random() < 0.7:
            path.write_text(as_json(dice, spoiled(dice, json.loads(whole))))
        else:
            path.write_bytes(damaged(dice, whole))
        try:
            read(path)
        except InputError as error:
            assert str(error).strip()
        except Exception as error:
            said = "".join(traceback.format_exception(error)[-3:])
            if said not in known:
                known.add(said)
                faults.append(f"{seed_file.name}, seed {seed}\n{said}")
    return faults


class Damaged(FolderTest):
    def kinds(self) -> Kinds:
        """A sound file of each kind, and what reads it."""
        found: Kinds = []
        for kind, subtype in _CONTAINERS:
            path = self.folder / f"{kind}_{subtype}.{kind.lower()}"
            soundfile.write(path, noise(2, 0.12).T, 44100, format=kind, subtype=subtype)
            found.append((path, _recording))
        azimuth, elevation, _ = sphere_grid()
        sofa = sofar.Sofa("SimpleFreeFieldHRIR")
        sofa.Data_IR = np.zeros((len(azimuth), 2, 64))
        sofa.Data_IR[:, :, 5] = 0.5
        sofa.Data_SamplingRate = RATE_HZ
        sofa.SourcePosition = np.stack([azimuth, elevation, np.ones(len(azimuth))], axis=-1)
        sofar.write_sofa(str(self.folder / "head.sofa"), sofa)
        found.append((self.folder / "head.sofa", _head))
        for name, content, read in (
            ("response.csv", "".join(f"{20 * 2**n},{n - 3}\n" for n in range(10)), read_response),
            ("mix.json", json.dumps(_DOCUMENT), _document),
            ("commands.json", json.dumps([one for one in ALL if "after" not in one]), _commands),
            ("lanes.csv", "parameter,time_s,value,curve\ngain_db,0,-6,hold\n", _lanes),
            ("blocks.xml", _path_in_blocks(), _blocks),
        ):
            path = self.folder / name
            path.write_text(content)
            found.append((path, read))
        return found

    def read_apart(self, kinds: Kinds, seeds: range) -> None:
        for path, read in kinds:
            read(path)  # whole, it is read
        try:
            faults = work_apart(read_damaged, kinds, seeds, limits=(MEMORY_BYTES, 900.0))
        except TooMuch as error:
            faults = [f"{', '.join(path.name for path, _ in kinds)}: {error}"]
        self.assertFalse(faults, "\n".join(faults[:6]))

    def test_some_of_every_kind(self) -> None:
        self.read_apart(self.kinds(), range(_QUICK))

    @long_test
    def test_two_thousand_of_every_kind(self) -> None:
        for kind in self.kinds():
            with self.subTest(kind[0].name):
                self.read_apart([kind], range(_QUICK, _QUICK + _FILES))


class CommandLines(FolderTest):
    def setUp(self) -> None:
        super().setUp()
        self.write("a.wav", noise(1, 0.1))
        self.write("b.wav", noise(2, 0.1), 44100)
        (self.folder / "mix.json").write_text(json.dumps(_DOCUMENT))
        (self.folder / "commands.json").write_text(json.dumps(ALL[:1]))

    def line(self, dice: random.Random) -> list[str]:
        """A command with some of its arguments, right and wrong."""
        (self.folder / "spoiled.json").write_text(as_json(dice, spoiled(dice, _DOCUMENT)))
        (self.folder / "damaged.wav").write_bytes(
            damaged(dice, (self.folder / "a.wav").read_bytes())
        )
        names = ("a.wav", "b.wav", "mix.json", "commands.json", "spoiled.json", "damaged.wav", "x")
        files = [*(str(self.folder / name) for name in names), str(self.folder), text(dice)[:300]]
        words = [dice.choice(("render", "measure", "align", "check", "edit", "schema", "é", ""))]
        words += [dice.choice(files) for _ in range(dice.randint(0, 3))]
        for option in dice.sample(
            ("--out", "--targets", "--stems", "--start", "--end", "--format", "--bits", "--layout"),
            dice.randint(0, 4),
        ):
            likely = ("0+2+0", "scene1", "tracks", "0.05", "flac", "16", "nan", str(self.folder))
            words += [option, dice.choice(likely) if dice.random() < 0.7 else text(dice)[:300]]
        return [word.replace("\0", "") for word in words]

    def many(self, seeds: range) -> None:
        here = Path.cwd()
        os.chdir(self.folder)
        self.addCleanup(os.chdir, here)
        for seed in seeds:
            line = self.line(random.Random(seed))
            out, err = io.StringIO(), io.StringIO()
            with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
                try:
                    status = main(line)
                except SystemExit as stop:
                    status = int(stop.code or 0)
                except Exception:
                    self.fail(f"seed {seed}: {line}\n{traceback.format_exc()}")
            self.assertIn(status, (0, 2), (seed, line))
            if status == 2:
                self.assertEqual(out.getvalue(), "", (seed, line))
                self.assertRegex(err.getvalue(), r"\S.*\.\n$", (seed, line))
            elif line[0] in ("render", "measure", "align", "check", "edit", "schema"):
                json.loads(out.getvalue(), parse_constant=self.fail)

    def test_some_command_lines(self) -> None:
        self.many(range(_QUICK_LINES))

    @long_test
    def test_a_thousand_command_lines(self) -> None:
        self.many(range(_QUICK_LINES, _QUICK_LINES + _LINES))
