"""The mix document: a whole mix as JSON, its audio named relative to it."""

import json
import os
from collections.abc import Callable
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from metaphon.core.document.mix import Mix
from metaphon.core.errors import InputError, sentence_case

SUFFIX = ".mix.json"


def parse(data: Any, where: str = "The mix document") -> Mix:
    """Turn decoded JSON into a mix. Raises InputError with the first thing that is wrong."""
    if not isinstance(data, dict) or data.get("format") != "metaphon-mix":
        raise InputError(f'{where} is not a mix document: its "format" must be "metaphon-mix".')
    try:
        return Mix.model_validate(data)
    except ValidationError as error:
        raise InputError(f"{where}: {_sentence(error)}") from None


def read(path: Path) -> Mix:
    """Read a mix document; its file names become absolute. Raises InputError in one sentence."""
    mix = parse(read_json(path), path.name)
    folder = path.absolute().parent
    return with_all_files(mix, lambda file: folder / file)


def read_json(path: Path) -> Any:
    """Read a JSON file. Raises InputError in one sentence where it is not there or is no JSON."""
    try:
        return json.loads(path.read_text(encoding="utf-8"))
    except FileNotFoundError:
        raise InputError(f"{path} is not there; check the name.") from None
    except (OSError, UnicodeDecodeError, json.JSONDecodeError, RecursionError):
        raise InputError(f"{path.name} cannot be read as JSON; export it again.") from None


def write(mix: Mix, path: Path) -> None:
    """Write a mix document; its file names become relative to it."""
    path.write_text(dumps(mix, path.absolute().parent) + "\n", encoding="utf-8")


def dumps(mix: Mix, folder: Path) -> str:
    """The document of a mix as text, its files named relative to a folder."""
    relative = with_all_files(mix, lambda file: Path(os.path.relpath(file, folder)))
    return json.dumps(relative.model_dump(mode="json"), indent=1, ensure_ascii=False)


def with_files(mix: Mix, change: Callable[[Path], Path]) -> Mix:
    """The same mix with every clip's file renamed by `change`."""
    tracks = tuple(
        track.model_copy(
            update={
                "clips": tuple(
                    clip.model_copy(update={"file": change(clip.file)}) for clip in track.clips
                )
            }
        )
        for track in mix.tracks
    )
    return mix.model_copy(update={"tracks": tracks})


def with_responses(mix: Mix, change: Callable[[Path], Path]) -> Mix:
    """The same mix with the file of every response of a space renamed by `change`."""

    def renamed(one: Any) -> Any:
        file = getattr(one, "file", None)
        return one if file is None else one.model_copy(update={"file": change(file)})

    return mix.with_strips(
        lambda strip: strip.model_copy(update={"chain": tuple(map(renamed, strip.chain))})
    )


def with_all_files(mix: Mix, change: Callable[[Path], Path]) -> Mix:
    """The same mix with every file that it names renamed by `change`."""
    return with_responses(with_files(mix, change), change)


def _sentence(error: ValidationError) -> str:
    first = error.errors()[0]
    place = "/".join(str(part) for part in first["loc"])
    said = first["msg"].removeprefix("Value error, ").rstrip(".")
    if first["type"] == "extra_forbidden":
        said = "this field is not known; take it out"
    if first["type"] == "union_tag_invalid":
        known = first["ctx"]["expected_tags"].replace("'", "")
        return f"{place}: there is no processor {first['ctx']['tag']!r}; known are {known}."
    if first["type"] == "union_tag_not_found":
        return f'{place}: "kind" is missing; say what it is.'
    if first["type"] in ("missing", "extra_forbidden"):
        return f"{place}: {said}."
    given = first.get("input")
    shown = (
        f", not {given!r}"
        if isinstance(given, str | int | float | bool) and "Value error" not in first["msg"]
        else ""
    )
    return f"{place}: {said}{shown}." if place else sentence_case(f"{said}.")
