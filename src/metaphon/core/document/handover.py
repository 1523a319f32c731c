"""What is asked for in a handover: formats, parts, span, rate, depth, names, level."""

import re
from collections.abc import Mapping
from typing import Annotated, Any, Literal

from pydantic import AfterValidator, Field, ValidationError, model_validator

from metaphon.core.document.part import Part
from metaphon.core.document.targets import target_to_render
from metaphon.core.errors import InputError, sentence_case
from metaphon.core.measure.loudness_limits import LoudnessLimits
from metaphon.core.process.processor import choice, parameter

Bits = Literal["16", "24", "32f"]
Container = Literal["wav", "flac"]
StemKind = Literal["tracks", "buses", "placements", "groups"]
Rooms = Literal["shared", "apart"]
RATES_HZ = (44100, 48000, 88200, 96000, 176400, 192000)
WORDS = ("title", "stem", "target", "revision", "date")
_WORD = re.compile(r"{(\w*)}")


def _fits(name: str) -> str:
    unknown = [word for word in _WORD.findall(name) if word not in WORDS]
    if unknown:
        raise ValueError(f"{{{unknown[0]}}} is not known; use {', '.join(WORDS)} in brackets")
    if "{target}" not in name or "{stem}" not in name:
        raise ValueError("a name needs {target} and {stem}, or files would replace each other")
    return name


OWN_WIDTH = "own"
ADM = "adm"  # the file with positions, among targets
ADM_TITLE = "ADM (BW64)"
TargetName = Annotated[str, AfterValidator(lambda name: target_to_render(name).name)]
StemTarget = Annotated[
    str, AfterValidator(lambda name: name if name == OWN_WIDTH else target_to_render(name).name)
]


class FileForm(Part):
    """How files are written: what they hold, their length, their level and their names."""

    rate_hz: int | None = Field(None, description="Samples a second; the mix's own if empty.")
    bits: Bits = "24"
    container: Container = "wav"
    name: Annotated[str, AfterValidator(_fits)] = Field("{title}{stem}_{target}", max_length=200)
    lead_s: float = parameter(
        0.0, 0.0, 60.0, unit="s", step=0.1, moves=False, help="Silence in front."
    )
    tail_s: float = parameter(
        0.0, 0.0, 60.0, unit="s", step=0.1, moves=False, help="Silence behind the last tail."
    )
    level: Literal["as_it_is", "gain", "limiter"] = choice(
        "as_it_is", help="Left as it is, or brought to a loudness: by gain alone, or limited."
    )
    loudness_lufs: float = parameter(
        -23.0, -40.0, -8.0, unit="LUFS", step=0.5, moves=False, help="Loudness it is brought to."
    )
    tolerance_lu: float = parameter(
        0.5, 0.1, 6.0, unit="LU", step=0.1, moves=False, help="How far from it a file may be."
    )
    ceiling_dbtp: float = parameter(
        -1.0, -12.0, 0.0, unit="dBTP", step=0.1, moves=False, help="No true peak gets above it."
    )

    stem_dynamics: Literal["shared", "own"] = choice(
        "shared",
        help="Stems turned down as limiters turn down the mix, so that they add up to it; or each "
        "limited by itself, as if it were a mix.",
    )

    @property
    def limits(self) -> LoudnessLimits:
        """What its files are held against."""
        return LoudnessLimits(self.loudness_lufs, self.tolerance_lu, self.ceiling_dbtp)

    @model_validator(mode="after")
    def _can_be_written(self) -> "FileForm":
        if self.rate_hz not in (None, *RATES_HZ):
            raise ValueError(f"files may be at {', '.join(map(str, RATES_HZ))} Hz")
        if self.container == "flac" and self.bits == "32f":
            raise ValueError(
                "FLAC holds 16 or 24 bits; choose one of these, or WAV for 32 bit float"
            )
        return self


class Handover(FileForm):
    """What is rendered of a mix in one go."""

    targets: tuple[TargetName, ...] = Field((), max_length=40, description="Of the whole mix.")
    adm: bool = Field(False, description="As one file with positions (BW64, ITU-R BS.2076-2).")
    alternatives: tuple[TargetName, ...] = Field(
        (), max_length=40, description="Of each of its alternatives."
    )
    objects: tuple[Annotated[int, Field(ge=1, le=128)], ...] = Field(
        (), max_length=6, description="As files with positions of no more than so many objects."
    )
    stems: dict[StemKind, tuple[StemTarget, ...]] = Field(
        {}, description="Of its parts; `own` is each track as wide as it is and not placed."
    )
    rooms: Rooms = choice(
        "shared", help="Stems with their share of the reverbs, or dry with the returns apart."
    )
    start_s: float = parameter(
        0.0, 0.0, 86400.0, unit="s", step=0.1, moves=False, help="Where it begins."
    )
    end_s: float | None = Field(None, gt=0.0, le=86400.0, description="Where it ends.")
    head: str = Field("", max_length=255, description="Whose ears headphones are for.")

    @property
    def is_empty(self) -> bool:
        """Whether nothing is chosen yet."""
        chosen = (self.targets, self.objects, self.alternatives, any(self.stems.values()))
        return not (self.adm or any(chosen))

    @model_validator(mode="after")
    def _can_be_made(self) -> "Handover":
        if OWN_WIDTH in self.stems.get("placements", ()):
            raise ValueError("what is placed alike has no width of its own; choose a target for it")
        if self.end_s is not None and self.end_s <= self.start_s:
            raise ValueError("it ends before it begins; give a later end")
        return self


def asked(given: Mapping[str, Any]) -> Handover:
    """What is asked for, from plain data.

    Raises InputError in one sentence for what cannot be, or where nothing is chosen.
    """
    wanted = draft(given)
    if wanted.is_empty:
        raise InputError("No target is chosen; choose at least one format to render.")
    return wanted


def draft(given: Mapping[str, Any]) -> Handover:
    """What is chosen so far, from plain data: it may be nothing.

    Raises InputError in one sentence for what cannot be.
    """
    try:
        return Handover.model_validate(given)
    except ValidationError as error:
        first = error.errors()[0]
    if first["type"] == "value_error":
        raise InputError(sentence_case(str(first["ctx"]["error"]).rstrip(".")) + ".")
    name = str(first["loc"][0]) if first["loc"] else ""
    label, given_text = _LABELS.get(name, name.replace("_", " ")), str(first["input"])[:30]
    if first["type"].startswith("float"):
        raise InputError(f"{sentence_case(label)} is a number, not {given_text!r}.")
    if first["type"].startswith("int"):
        raise InputError(f"{sentence_case(label)} is a whole number, not {given_text!r}.")
    said = first["msg"].replace("Input should be", "should be")
    raise InputError(f"{sentence_case(label or 'what is asked for')} {said}, not {given_text!r}.")


_LABELS = {
    "start_s": "the beginning",
    "end_s": "the end",
    "lead_s": "silence in front",
    "tail_s": "silence behind",
    "loudness_lufs": "loudness",
    "tolerance_lu": "the tolerance",
    "ceiling_dbtp": "the ceiling of true peaks",
    "rate_hz": "the sample rate",
    "bits": "the depth",
    "objects": "how many objects",
    "name": "a name",
}
