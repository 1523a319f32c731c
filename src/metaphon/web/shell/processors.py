"""A processor as a page shows it: its controls, its curve, what it does to a pair."""

from dataclasses import dataclass, replace
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from metaphon.core.document.mix import Strip, Track
from metaphon.core.engine.strip_width import sides_of
from metaphon.core.files.audio import ClipReader
from metaphon.core.measure.correlation import of_pair
from metaphon.core.measure.thirds import THIRDS_HZ
from metaphon.core.process.processor import Processor
from metaphon.web.shell.controls import Control, controls_from

_FREQUENCIES_HZ = np.geomspace(20.0, 20000.0, 120)
_LONGEST_READ = 120 * 48000
# settings of a processor that are not controls of their own
_APART = ("kind", "bypassed")


@dataclass(frozen=True)
class Part:
    """A processor of a strip: its controls, and its curve where it has one.

    `path` leads to it in commands.
    """

    place: int
    path: str
    title: str
    brief: str
    bypassed: bool
    controls: list[Control]
    magnitude: str
    phase: str
    latency_samples: int
    remark: str
    pair: (
        tuple[float | None, float | None] | None
    )  # correlation and fold-down loss of a stereo recording, after it

    starting_points: list[tuple[str, dict[str, Any]]]  # what they are called, and their command

    response: str = ""  # what the response of a space is called

    @property
    def before(self) -> int:
        """The place before its own."""
        return max(self.place - 1, 0)

    @property
    def after(self) -> int:
        """The place after its own."""
        return self.place + 1


def part_of(place: int, processor: Processor, strip: Strip, channels: int, rate_hz: int) -> Part:
    """A processor at its place in a chain; `channels` is how many its strip works with."""
    heard = processor.response(np.minimum(_FREQUENCIES_HZ, 0.499 * rate_hz), rate_hz)
    magnitude = phase = ""
    if heard is not None:
        level = 20.0 * np.log10(np.maximum(np.abs(heard), 1e-6))
        magnitude = _curve(np.clip(30.0 - level * 1.25, -2.0, 62.0))
        phase = _curve(30.0 - np.angle(heard) / np.pi * 30.0)
    pair = None
    if channels == 2 and isinstance(strip, Track) and strip.clips:
        thirds = _pair_thirds(strip.clips[0].file, rate_hz)
        after = processor.pair_powers(thirds, THIRDS_HZ, rate_hz)
        pair = None if after is None else of_pair(after.sum(axis=0))
    path = f"chain/{place}"
    found = controls_from(
        type(processor).model_json_schema(), processor.model_dump(mode="json"), channels, path
    )
    controls = [control for control in found if control.name not in _APART]
    by_name = {control.name: control for control in controls}
    controls = [
        replace(control, sort="decided", value=by_name[processor.decided_by[control.name]].label)
        if control.name in processor.decided_by
        else control
        for control in controls
    ]
    if processor.groups:  # what says no other stands in the first
        controls = [
            replace(control, group=control.group or processor.groups[0]) for control in controls
        ]
        controls.sort(key=lambda control: processor.groups.index(control.group))
    return Part(
        place,
        path,
        processor.title,
        processor.brief,
        processor.bypassed,
        controls,
        magnitude,
        phase,
        processor.latency_samples(rate_hz),
        processor.idle_on(channels) or processor.remark(rate_hz),
        pair,
        [
            (
                name,
                _starting(strip, f"{strip.name}, {processor.title.lower()}: {name}", path, values),
            )
            for name, values in processor.starting_points.items()
        ],
    )


def _starting(strip: Strip, words: str, path: str, values: dict[str, Any]) -> dict[str, Any]:
    """The command that sets a processor to a starting point."""
    commands = [
        {"kind": "set", "strips": [strip.id], "path": f"{path}/{name}", "value": value}
        for name, value in values.items()
    ]
    return {"kind": "batch", "commands": commands, "words": words}


@lru_cache(maxsize=256)
def _pair_thirds(path: Path, rate_hz: int) -> NDArray[np.float64]:
    """The mean products of a recording's two sides by thirds of octaves, (thirds, 2, 2).

    Over its first two minutes.
    """
    reader = ClipReader(path)
    sound = reader.read(0, min(reader.frames, _LONGEST_READ))
    reader.close()
    return sides_of(np.repeat(sound, 2, axis=0) if len(sound) == 1 else sound, rate_hz).thirds


def _curve(heights: NDArray[np.float64]) -> str:
    """A path over the frequencies, 240 wide: 20 Hz at the left, 20 kHz at the right."""
    x = np.linspace(0.0, 240.0, len(heights))
    return "M" + " ".join(f"{a:.1f} {b:.1f}" for a, b in zip(x, heights, strict=True))
