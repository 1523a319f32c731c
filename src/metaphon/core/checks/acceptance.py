"""What a receiving platform does with a file that is sent to it: checks it, and takes it or not.

A stand-in for services outside; what it asks is published by the bodies that are named with it.
"""

import tempfile
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

from metaphon.core.adm.importing import definition_of, has_definition, import_file
from metaphon.core.document.targets import target_named
from metaphon.core.engine.conformance import Check, definition_check, loudness_told, written_as
from metaphon.core.engine.plan import compile
from metaphon.core.engine.render import Output, render
from metaphon.core.errors import InputError
from metaphon.core.files.audio import AudioInfo, ClipReader, probe
from metaphon.core.files.wave_chunks import chunk
from metaphon.core.measure.channels import ChannelFigures, ChannelMeter
from metaphon.core.measure.loudness_limits import LoudnessLimits, judged
from metaphon.core.measure.powers import pieces_of
from metaphon.core.measure.programme import Figures, ProgrammeMeter
from metaphon.core.spatial.layouts import layout_for_channels

_STRETCH = 1 << 16
_PLAYED_ON = "4+7+0"
_OFF_LU = 0.5  # of what a file tells of its own loudness


@dataclass(frozen=True)
class RuleSet:
    """What a platform asks of a file; `source` is who published it."""

    title: str
    source: str
    limits: LoudnessLimits | None
    channels: tuple[int, ...] = ()  # any where empty
    rates_hz: tuple[int, ...] = (48000,)
    encodings: tuple[str, ...] = ("PCM_24",)
    broadcast: bool = False  # told by a broadcast extension
    positions: bool = False  # with an audio definition


# figures from memory
RULE_SETS: dict[str, RuleSet] = {
    "broadcast": RuleSet(
        "Broadcast",
        "EBU R 128, EBU Tech 3285",
        LoudnessLimits(-23.0, 0.5, -1.0),
        channels=(2, 6),
        broadcast=True,
    ),
    "streaming": RuleSet(
        "Streaming",
        "AES TD1008",
        LoudnessLimits(-16.0, 1.0, -1.0),
        channels=(2,),
        rates_hz=(44100, 48000, 96000),
        encodings=("PCM_16", "PCM_24"),
    ),
    "immersive": RuleSet(
        "Immersive programme",
        "ITU-R BS.2076-2, ITU-R BS.2088-1",
        None,
        rates_hz=(48000, 96000),
        positions=True,
    ),
}


@dataclass(frozen=True)
class Receipt:
    """What becomes of a file that was sent: each rule, and whether it is taken."""

    checks: tuple[Check, ...]

    @property
    def accepted(self) -> bool:
        """Whether the platform takes it."""
        return all(check.ok for check in self.checks)

    def told(self) -> dict[str, Any]:
        """As plain data."""
        return {"accepted": self.accepted, "checks": [asdict(one) for one in self.checks]}


def received(path: Path, name: str, rule_set: str) -> Receipt:
    """Check a file that was sent.

    Parameters
    ----------
    path, name
        The file, and what its sender calls it.
    rule_set
        One of RULE_SETS.
    """
    rules = RULE_SETS[rule_set]
    try:
        info = probe(path, name)
    except InputError as error:
        return Receipt((Check("A file that can be read", str(error), False, rules.source),))
    checks: list[Check | None] = [_written(info, rules)]
    if rules.channels:
        checks.append(
            Check(
                f"{' or '.join(map(str, rules.channels))} channels",
                f"{info.channels}",
                info.channels in rules.channels,
                rules.source,
            )
        )
    if rules.broadcast:
        told = chunk(path, b"bext") is not None
        found = "there" if told else "missing; write WAV"
        checks.append(Check("A broadcast extension (bext)", found, told, "EBU Tech 3285"))
    if rules.positions:
        checks.append(
            definition_check(path, info)
            if has_definition(path)
            else Check("An audio definition", "missing; hand over ADM", False, rules.source)
        )
    figures, channels = _measured(path, info)
    checks += _sound(channels)
    if rules.limits:
        checks += _loudness(figures, rules.limits, rules.source)
        checks.append(_told(loudness_told(path), figures, "EBU Tech 3285"))
    elif has_definition(path):
        checks.append(_programme_told(path, rules))
    return Receipt(tuple(check for check in checks if check is not None))


def _written(info: AudioInfo, rules: RuleSet) -> Check:
    rates = " or ".join(f"{rate / 1000:g}" for rate in rules.rates_hz)
    depths = " or ".join(one.removeprefix("PCM_") for one in rules.encodings)
    ok = info.sample_rate_hz in rules.rates_hz and info.encoding in rules.encodings
    return Check(f"{rates} kHz, {depths} bit", written_as(info), ok, rules.source)


def _measured(path: Path, info: AudioInfo) -> tuple[Figures, tuple[ChannelFigures, ...]]:
    try:
        layout = target_named(layout_for_channels(info.channels).name)
    except InputError:  # as many as no layout has; then it is measured as it is played
        layout = target_named("0+1+0")
    plain = layout.channels == info.channels
    meter = ProgrammeMeter(layout.channels, info.sample_rate_hz, layout.metering_layout)
    each = ChannelMeter(info.channels, info.sample_rate_hz)
    reader = ClipReader(path)
    for at in range(0, info.frames, _STRETCH):
        block = reader.read(at, min(_STRETCH, info.frames - at))
        pieces = meter.add(block if plain else block[:1])
        each.add(block, pieces if plain else pieces_of(block))
    reader.close()
    return meter.finish(), each.finish()


def _sound(channels: tuple[ChannelFigures, ...]) -> list[Check]:
    source = "common practice, no source"

    def named(found: list[int]) -> str:
        return "channel " + ", ".join(str(n + 1) for n in found)

    broken = [n for n, one in enumerate(channels) if one.breaks]
    clipped = [n for n, one in enumerate(channels) if one.clipped_runs]
    silent = all(one.is_silent for one in channels)
    first = min((one.broken_s for one in channels if one.broken_s is not None), default=0.0)
    return [
        Check("Sound", "silent" if silent else "there", not silent, source),
        Check(
            "No breaks in the sound",
            f"{named(broken)}, first at {first:.2f} s" if broken else "none",
            not broken,
            source,
        ),
        Check("Nothing clipped", named(clipped) if clipped else "nothing", not clipped, source),
    ]


def _loudness(figures: Figures, limits: LoudnessLimits, source: str) -> list[Check]:
    loudness, peak = figures.integrated_lufs, figures.true_peak_dbtp
    off = "too little sound" if loudness is None else _told_as(loudness, "LUFS")
    high = peak is not None and peak > limits.ceiling_dbtp + 0.05
    within = LoudnessLimits(limits.loudness_lufs, limits.tolerance_lu, 99.0)
    return [
        Check(
            f"{_told_as(limits.loudness_lufs, 'LUFS')} ± {limits.tolerance_lu:g} LU",
            off,
            judged(figures, within).word == "pass",
            source,
        ),
        Check(
            f"True peak at most {_told_as(limits.ceiling_dbtp, 'dBTP')}",
            "none" if peak is None else _told_as(peak, "dBTP"),
            not high,
            source,
        ),
    ]


def _told(told: float | None, figures: Figures, source: str) -> Check | None:
    """What a file tells of its loudness, where it tells anything."""
    if told is None or figures.integrated_lufs is None:
        return None
    ok = abs(told - figures.integrated_lufs) <= _OFF_LU
    asked = f"The loudness that it tells, {_told_as(told, 'LUFS')}"
    return Check(asked, _told_as(figures.integrated_lufs, "LUFS"), ok, source)


def _programme_told(path: Path, rules: RuleSet) -> Check:
    """Whether the first programme is as loud as its definition says, played on loudspeakers."""
    told = definition_of(path).programmes[0].loudness.integrated_lufs
    if told is None:
        return Check("The loudness of its programme told", "not told", False, rules.source)
    target = target_named(_PLAYED_ON)
    with tempfile.TemporaryDirectory() as folder:
        mix, _ = import_file(path, Path(folder))
        meter = ProgrammeMeter(target.channels, mix.sample_rate_hz, target.metering_layout)
        for (block,) in render(compile(mix), [Output(target)]):
            meter.add(block)
    found = _told(told, meter.finish(), rules.source)
    asked = f"As loud as told, {_told_as(told, 'LUFS')}"
    return found or Check(asked, "too little sound", False, rules.source)


def _told_as(value: float, unit: str) -> str:
    return f"{value:.1f} {unit}".replace("-", "−")
