"""Bringing every recording of a mix to the mix's sample rate before it is rendered."""

from pathlib import Path

from metaphon.core.document.mix import Mix
from metaphon.core.files.audio import LOSSY, probe
from metaphon.core.files.intake import take_in
from metaphon.core.files.mixdoc import with_files


def at_mix_rate(mix: Mix, folder: Path) -> tuple[Mix, list[str]]:
    """The same mix with recordings of another rate converted into a folder, and a notice for each.

    Raises InputError as `take_in` does.
    """
    converted: dict[Path, Path] = {}
    notices: list[str] = []

    def change(file: Path) -> Path:
        if file not in converted:
            converted[file] = file
            info = probe(file)
            if info.sample_rate_hz != mix.sample_rate_hz or info.container in LOSSY:
                fresh = folder / f"{len(converted)}_{file.stem}.wav"
                notices.extend(take_in(file, mix.sample_rate_hz, fresh, file.name).notices)
                converted[file] = fresh
        return converted[file]

    return with_files(mix, change), notices
