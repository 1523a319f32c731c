"""The command line.

One JSON object on standard output, words on standard error, status 0 only on success.
"""

import argparse
import json
import math
import sys
import tempfile
from collections.abc import Callable, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import asdict
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING, Any, NoReturn

from metaphon.core.errors import InputError, sentence_case

if TYPE_CHECKING:
    from metaphon.core.document.handover import Handover

Answer = dict[str, Any]
_LATEST_S = 86_400.0


def main(arguments: Sequence[str] | None = None) -> int:
    """Run one command; gives the exit status."""
    options = _parser().parse_args(arguments)
    run: Callable[[argparse.Namespace], Answer] = options.run
    try:
        answer = run(options)
    except InputError as error:
        print(error, file=sys.stderr)
        return 2
    except OSError as error:
        where = error.filename or "The disk"
        print(f"{where} cannot be used: {error.strerror}. Choose another place.", file=sys.stderr)
        return 2
    except KeyboardInterrupt:
        print("Stopped; nothing was left behind.", file=sys.stderr)
        return 130
    print(json.dumps(_numbers_only(answer), indent=1, ensure_ascii=False, allow_nan=False))
    return 0


def _numbers_only(value: Any) -> Any:
    """The same with nothing where a number is none; JSON knows no other."""
    if isinstance(value, dict):
        return {key: _numbers_only(one) for key, one in value.items()}
    if isinstance(value, list | tuple):
        return [_numbers_only(one) for one in value]
    return None if isinstance(value, float) and not math.isfinite(value) else value


def _seconds(text: str) -> float:
    seconds = float(text)
    if not 0.0 <= seconds <= _LATEST_S:
        raise argparse.ArgumentTypeError(f"{text} is no time; give seconds from 0 on")
    return seconds


class _Parser(argparse.ArgumentParser):
    def error(self, message: str) -> NoReturn:
        print(f"{sentence_case(message)}; see {self.prog} --help.", file=sys.stderr)
        raise SystemExit(2)


def _add_render(commands: "argparse._SubParsersAction[Any]") -> None:
    render = commands.add_parser("render", help="render a mix document to files")
    render.add_argument("mix", type=Path, metavar="MIX.json")
    render.add_argument("--out", type=Path, required=True, metavar="DIR")
    render.add_argument(
        "--targets", help="comma-separated, `adm` among them; the document's own where not given"
    )
    render.add_argument(
        "--alternatives", action="store_true", help="each alternative in every target too"
    )
    render.add_argument(
        "--objects", metavar="N", help="ADM of no more than so many objects too; several by commas"
    )
    stems = ("none", "tracks", "buses", "placements", "groups")
    render.add_argument("--stems", choices=stems, default="none")
    render.add_argument(
        "--rooms",
        choices=("shared", "apart"),
        help="stems with their share of the reverbs, or dry with the returns apart",
    )
    render.add_argument(
        "--stem-dynamics",
        choices=("shared", "own"),
        help="stems turned down as limiters turn down the mix, or each limited by itself",
    )
    render.add_argument(
        "--stem-width",
        choices=("target", "own"),
        default="target",
        help="stems in each target, or each track as wide as it is and not placed",
    )
    render.add_argument("--start", dest="start_s", type=_seconds, default=0.0, metavar="S")
    render.add_argument("--end", dest="end_s", type=_seconds, metavar="S")
    render.add_argument(
        "--lead", dest="lead_s", type=_seconds, metavar="S", help="silence in front"
    )
    render.add_argument("--tail", dest="tail_s", type=_seconds, metavar="S", help="silence behind")
    render.add_argument("--rate", dest="rate_hz", type=int, metavar="HZ")
    render.add_argument("--format", dest="container", choices=("wav", "flac"), default="wav")
    render.add_argument("--bits", choices=("16", "24", "32f"), default="24")
    render.add_argument("--name", help="pattern of {title} {stem} {target} {revision} {date}")
    render.add_argument("--level", choices=("as_it_is", "gain", "limiter"))
    render.add_argument("--loudness", dest="loudness_lufs", type=float, metavar="LUFS")
    render.add_argument("--ceiling", dest="ceiling_dbtp", type=float, metavar="DBTP")
    render.add_argument(
        "--head",
        type=Path,
        metavar="SOFA",
        help="whose ears headphones are for; KEMAR if not given",
    )
    render.set_defaults(run=_render)


def _parser() -> argparse.ArgumentParser:
    parser = _Parser(prog="metaphon", description=__doc__)
    commands = parser.add_subparsers(required=True, metavar="COMMAND")

    _add_render(commands)

    measure = commands.add_parser("measure", help="measure an audio file")
    measure.add_argument("file", type=Path, metavar="FILE")
    measure.add_argument(
        "--layout", help="a BS.2051 name or sceneN; guessed from the channels where not given"
    )
    measure.set_defaults(run=_measure)

    inspect = commands.add_parser(
        "inspect", help="list the chunks of a file and what its audio definition says"
    )
    inspect.add_argument("file", type=Path, metavar="FILE")
    inspect.set_defaults(run=_inspect)

    bring = commands.add_parser(
        "import", help="make a mix document of a file with an audio definition (ADM)"
    )
    bring.add_argument("file", type=Path, metavar="FILE.wav")
    bring.add_argument("--out", type=Path, required=True, metavar="DIR")
    bring.set_defaults(run=_import)

    ltc = commands.add_parser("ltc", help="read linear timecode from a recording")
    ltc.add_argument("file", type=Path, metavar="FILE")
    ltc.set_defaults(run=_ltc)

    align = commands.add_parser(
        "align", help="find delay and polarity between two recordings of one sound"
    )
    align.add_argument("reference", type=Path, metavar="REFERENCE")
    align.add_argument("other", type=Path, metavar="OTHER")
    align.set_defaults(run=_align)

    check = commands.add_parser("check", help="list what is wrong with a mix document")
    check.add_argument("mix", type=Path, metavar="MIX.json")
    check.set_defaults(run=_check)

    phase = commands.add_parser(
        "phase", help="print magnitude, phase and group delay of a strip's chain"
    )
    phase.add_argument("mix", type=Path, metavar="MIX.json")
    phase.add_argument("strip", metavar="STRIP")
    phase.set_defaults(run=_phase)

    edit = commands.add_parser("edit", help="apply commands to a mix document")
    edit.add_argument("mix", type=Path, metavar="MIX.json")
    edit.add_argument("commands", type=Path, metavar="COMMANDS.json")
    edit.add_argument("--out", type=Path, required=True, metavar="NEW.json")
    edit.set_defaults(run=_edit)

    schema = commands.add_parser(
        "schema", help="print the JSON schema of the mix document, or of its commands"
    )
    schema.add_argument("--commands", action="store_true", help="of the commands that edit it")
    schema.set_defaults(run=_schema)

    demo = commands.add_parser("demo", help="write the demo mixes as documents with their audio")
    demo.add_argument("folder", type=Path, metavar="DIR")
    demo.set_defaults(run=_demo)
    return parser


def _render(options: argparse.Namespace) -> Answer:
    from metaphon.core.checks.rules import check
    from metaphon.core.engine.levels import StripMeters
    from metaphon.core.engine.naming import Names
    from metaphon.core.engine.offline import Progress, render_to_files, runs_of
    from metaphon.core.engine.report import as_text, report, report_name
    from metaphon.core.files.conform import at_mix_rate
    from metaphon.core.files.mixdoc import read
    from metaphon.core.spatial.head import SHIPPED

    def show(progress: Progress) -> None:
        if sys.stderr.isatty():
            print(
                f"\r{progress.done:4.0%}  {progress.speed_x_realtime:.1f} x real time",
                end="",
                file=sys.stderr,
            )

    document = read(options.mix)
    asked = _asked(options, document.targets)
    with tempfile.TemporaryDirectory() as folder:
        mix, notices = at_mix_rate(document, Path(folder))
        print(*notices, sep="\n", end="\n" if notices else "", file=sys.stderr)
        runs = runs_of(mix, asked, options.head or SHIPPED)
        meters = StripMeters(runs[0].plan)
        results, speed = render_to_files(
            runs,
            options.out,
            asked,
            Names(mix.title, date=date.today().isoformat()),
            span_s=(asked.start_s, asked.end_s),
            on_progress=show,
            on_strips=meters.add,
        )
        whole = asked.start_s == 0.0 and asked.end_s is None
        known = meters.finish() if whole else None
        findings = [asdict(finding) for finding in check(mix, known)]
    told = report(mix, asked, results, findings)
    text = options.out / report_name(mix.title, "txt")
    text.write_text(as_text(told), encoding="utf-8")
    files = [
        {**one, "path": str(result.path)}
        for one, result in zip(told["files"], results, strict=True)
    ]
    return {
        "files": files,
        "speed_x_realtime": round(speed, 2),
        "findings": findings,
        "report": str(text),
    }


def _asked(options: argparse.Namespace, targets: Sequence[str]) -> "Handover":
    from metaphon.core.document.handover import ADM, OWN_WIDTH, Handover, asked

    given = {name: getattr(options, name) for name in Handover.model_fields if name in options}
    given = {name: value for name, value in given.items() if value is not None}
    named = options.targets.split(",") if options.targets else list(targets)
    given["adm"] = ADM in named
    given["objects"] = [text.strip() for text in (options.objects or "").split(",") if text.strip()]
    given["targets"] = [name for name in named if name != ADM]
    given["alternatives"] = given["targets"] if options.alternatives else []
    wanted = [OWN_WIDTH] if options.stem_width == "own" else given["targets"]
    given["stems"] = {} if options.stems == "none" else {options.stems: wanted}
    return asked({**given, "head": ""})


def _measure(options: argparse.Namespace) -> Answer:
    from metaphon.core.document.targets import target_named
    from metaphon.core.engine.chain import all_numbers
    from metaphon.core.files.audio import ClipReader, probe
    from metaphon.core.measure.programme import ProgrammeMeter
    from metaphon.core.spatial.layouts import layout_for_channels

    info = probe(options.file)
    heard = target_named(options.layout or layout_for_channels(info.channels).name)
    if heard.channels != info.channels:
        raise InputError(
            f"{heard.title} has {heard.channels} channels, {options.file.name} has {info.channels}."
        )
    meter = ProgrammeMeter(info.channels, info.sample_rate_hz, heard.metering_layout)
    reader = ClipReader(options.file)
    with ThreadPoolExecutor(1) as pool:  # the next stretch is read while one is measured
        measured: Future[Any] = pool.submit(lambda: None)
        for first in range(0, info.frames, 1 << 17):
            block = reader.read(first, min(1 << 17, info.frames - first))
            if not all_numbers(block):
                raise InputError(
                    f"{options.file.name} holds samples that are not numbers after "
                    f"{first / info.sample_rate_hz:.1f} s; export it again."
                )
            measured.result()
            measured = pool.submit(meter.add, block)
        measured.result()
    reader.close()
    return asdict(meter.finish())


def _inspect(options: argparse.Namespace) -> Answer:
    from metaphon.core.adm.importing import definition_of
    from metaphon.core.files.audio import probe
    from metaphon.core.files.wave_chunks import chunks

    info = probe(options.file)
    found = [
        {"id": kind.decode("latin-1"), "bytes": size} for kind, _, size in chunks(options.file)
    ]
    answer = {**asdict(info), "duration_s": info.duration_s, "chunks": found, "adm": None}
    if any(one["id"] in ("axml", "chna") for one in found):
        told = definition_of(options.file)
        answer["adm"] = {
            "programmes": [
                {
                    "name": one.name,
                    "language": one.language,
                    "loudness": asdict(one.loudness),
                    "without": [told.elements[n].name for n in sorted(one.absent)],
                    "gains_db": {told.elements[n].name: db for n, db in one.gains_db.items()},
                }
                for one in told.programmes
            ],
            "objects": [
                {
                    "name": element.name,
                    "kind": element.kind,
                    "channels": [channel + 1 for channel in element.channels],
                    "labels": [speaker.label for speaker in element.loudspeakers],
                    "order": element.order or None,
                    "blocks": [len(path.times_s) for path in element.paths],
                    "importance": element.importance,
                    "listener": element.varied.model_dump(exclude={"strip"})
                    if element.varied
                    else None,
                }
                for element in told.elements
            ],
            "notes": list(told.notes),
        }
    return answer


def _import(options: argparse.Namespace) -> Answer:
    from metaphon.core.adm.importing import import_file
    from metaphon.core.engine.naming import safe_title
    from metaphon.core.files.mixdoc import write

    mix, notes = import_file(options.file, options.out)
    document = options.out / f"{safe_title(mix.title)}.mix.json"
    write(mix, document)
    print(*notes, sep="\n", end="\n" if notes else "", file=sys.stderr)
    return {"document": str(document), "tracks": len(mix.tracks), "notes": list(notes)}


def _ltc(options: argparse.Namespace) -> Answer:
    from metaphon.core.files.timecode_track import timecode_in

    found = timecode_in(options.file)
    if found is None:
        raise InputError(f"There is no timecode in {options.file.name}; bring its recording.")
    return {
        "rate": found.rate.title,
        "first": found.first.told(found.rate.drops),
        "at_s": round(found.at_s, 6),
        "frames": found.frames,
        "jumps": found.broken,
        "offset_s": round(found.offset_s, 6),
    }


def _align(options: argparse.Namespace) -> Answer:
    from metaphon.core.files.audio import ClipReader, probe
    from metaphon.core.measure.alignment import align

    one, two = probe(options.reference), probe(options.other)
    if one.sample_rate_hz != two.sample_rate_hz:
        raise InputError("The two recordings differ in sample rate; bring them to one rate first.")
    sounds = [
        ClipReader(path).read(0, info.frames).mean(axis=0)
        for path, info in ((options.reference, one), (options.other, two))
    ]
    found = align(sounds[0], sounds[1], one.sample_rate_hz)
    if found is None:
        raise InputError("One of the two recordings is silent; there is nothing to align.")
    return {
        "delay_ms": round(found.delay_ms, 5),
        "polarity": "inverted" if found.inverted else "same",
        "confidence": round(found.confidence, 4),
    }


def _phase(options: argparse.Namespace) -> Answer:
    from metaphon.core.edits.command import strip_of
    from metaphon.core.engine.chain_response import FREQUENCIES_HZ, magnitude_db, response_of
    from metaphon.core.files.mixdoc import read

    mix = read(options.mix)
    found = response_of(strip_of(mix, options.strip).chain, mix.sample_rate_hz)
    curves = {
        "frequencies_hz": FREQUENCIES_HZ,
        "magnitude_db": magnitude_db(found.best),
        "phase_deg": found.phase_deg(),
        "group_delay_ms": found.group_delay_ms,
    }
    return {
        "by": "measurement" if found.computed is None else "formula",
        "latency_samples": found.latency,
        "pre_echo_db": round(found.pre_echo_db, 2),
        **{name: [round(float(v), 4) for v in values] for name, values in curves.items()},
    }


def _check(options: argparse.Namespace) -> Answer:
    from metaphon.core.checks.rules import check
    from metaphon.core.files.mixdoc import read

    return {"findings": [asdict(finding) for finding in check(read(options.mix))]}


def _edit(options: argparse.Namespace) -> Answer:
    from metaphon.core.edits.registry import apply_all, read_all, with_files
    from metaphon.core.files.mixdoc import read, read_json, write

    folder = options.mix.absolute().parent
    commands = [
        with_files(command, lambda file: folder / file)
        for command in read_all(read_json(options.commands))
    ]
    mix, said = apply_all(read(options.mix), commands)
    write(mix, options.out)
    return {"document": str(options.out), "edits": said}


def _schema(options: argparse.Namespace) -> Answer:
    from metaphon.core.schemas import COMMANDS, MIX, published

    return published(COMMANDS if options.commands else MIX)


def _demo(options: argparse.Namespace) -> Answer:
    from metaphon.core.demo.mixes import write_demo

    return {"documents": [str(path) for path in write_demo(options.folder)]}


if __name__ == "__main__":
    sys.exit(main())
