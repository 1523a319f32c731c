"""The controls of anything with parameters, drawn from its model.

The model alone knows ranges, units and steps.
"""

from dataclasses import dataclass
from functools import lru_cache
from typing import Any

from pydantic import BaseModel
from pydantic.fields import FieldInfo

from metaphon.core.document.fold_down import FoldDown
from metaphon.core.document.mix import Clip, LfeSend, Mix, Placement, Send, Strip, Track
from metaphon.core.document.value_paths import range_of_field
from metaphon.core.edits.typed_values import extra_of, label_without_unit
from metaphon.core.process.registry import KINDS


@dataclass(frozen=True)
class Numeric:
    """What a number's control needs to know of it."""

    low: float
    high: float
    step: float
    default: float
    unit: str = ""
    scale: str = "linear"


@dataclass(frozen=True)
class Control:
    """One parameter as the screen shows it. `sort` is number, switch, choice, channels, bands, or
    decided: by the one that `value` names.

    `path` leads to it from its strip, as commands say it.
    """

    name: str
    path: str
    label: str
    help: str
    value: Any
    sort: str
    numeric: Numeric | None = None
    default: Any = None
    choices: tuple[tuple[str, str], ...] = ()
    group: str = ""


_PARTS: dict[str, type[BaseModel]] = {
    "placement": Placement,
    "sends": Send,
    "lfe": LfeSend,
    "clips": Clip,
    "basics": KINDS["basics"],
}


@lru_cache(maxsize=256)
def numeric_at(path: str) -> Numeric:
    """The range, step and unit of the number that a path leads to, for paths outside of chains."""
    head, _, rest = path.partition("/")
    model, name = (_PARTS[head], rest.rsplit("/", 1)[-1]) if rest else (Strip, head)
    return numeric_of(model.model_fields[name])


@lru_cache(maxsize=1)
def helps() -> dict[str, str]:
    """One line of help on each value outside of chains, by its path without numbers."""
    found = {
        f"{head}/{name}": field
        for head, model in _PARTS.items()
        for name, field in model.model_fields.items()
    }
    found |= Strip.model_fields | Track.model_fields
    found |= {f"fold_down/{name}": field for name, field in FoldDown.model_fields.items()}
    found["tempo"] = Mix.model_fields["tempo_bpm"]
    return {path: field.description for path, field in found.items() if field.description}


def numeric_of(field: FieldInfo) -> Numeric:
    """The range, step and unit of a numeric field of a model."""
    low, high = range_of_field(field) or (0.0, 1.0)
    extra = extra_of(field)
    default = field.default if isinstance(field.default, int | float) else 0.0
    return Numeric(
        low,
        high,
        float(extra.get("step", 0.01)),
        float(default),
        str(extra.get("unit", "")),
        str(extra.get("scale", "linear")),
    )


def controls_from(
    schema: dict[str, Any], values: dict[str, Any], channels: int, path: str
) -> list[Control]:
    """Every parameter of a model, by its JSON schema and its values, that counts for so many
    channels (0: all).

    `path` leads to the model from its strip.
    """
    return [
        _control(
            name, said, values.get(name, said.get("default")), schema, f"{path}/{name}", channels
        )
        for name, said in schema["properties"].items()
        if not (channels and said.get("channels") and said["channels"] != channels)
    ]


def _control(
    name: str, said: dict[str, Any], value: Any, schema: dict[str, Any], path: str, channels: int
) -> Control:
    unit = said.get("unit", "")
    common = {
        "name": name,
        "path": path,
        "label": label_without_unit(name, unit),
        "help": said.get("description", ""),
        "default": said.get("default"),
        "group": said.get("group", ""),
    }
    if said.get("role") == "bands":
        model = schema["$defs"]["Band"]
        bands = [
            controls_from(model, band, channels, f"{path}/{number}")
            for number, band in enumerate(value or ())
        ]
        return Control(**common, value=bands, sort="bands")
    if said.get("role") == "channels":
        return Control(**common, value=list(value or ()), sort="channels")
    if said.get("type") == "boolean":
        return Control(**common, value=value, sort="switch")
    if "enum" in said:
        choices = tuple(
            (word, f"{word.replace('_', ' ').capitalize()} {unit}".strip()) for word in said["enum"]
        )
        return Control(**common, value=value, sort="choice", choices=choices)
    if "minimum" not in said:
        return Control(**common, value=value, sort="fixed")
    numeric = Numeric(
        said["minimum"],
        said["maximum"],
        said["step"],
        said.get("default") or 0.0,
        unit,
        said.get("scale", "linear"),
    )
    return Control(**common, value=value, sort="number", numeric=numeric)
