"""The controls of anything with parameters, drawn from its model."""

from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True)
class Control:
    """One parameter as the screen shows it. `sort` is number, switch, choice, channels or bands."""

    name: str
    label: str
    help: str
    value: Any
    sort: str
    unit: str = ""
    low: float = 0.0
    high: float = 1.0
    step: float = 0.01
    default: Any = 0.0
    scale: str = "linear"
    choices: tuple[tuple[str, str], ...] = ()


def controls_from(schema: dict[str, Any], values: dict[str, Any], channels: int) -> list[Control]:
    """Every parameter of a model, by its JSON schema and its values, that counts for so many channels (0: all)."""
    return [
        _control(name, told, values.get(name, told.get("default")), schema)
        for name, told in schema["properties"].items()
        if not (channels and told.get("channels") and told["channels"] != channels)
    ]


def _control(name: str, told: dict[str, Any], value: Any, schema: dict[str, Any]) -> Control:
    unit = told.get("unit", "")
    ends = {"dB": "_db", "Hz": "_hz", "ms": "_ms", "s": "_s", "\u00b0": "_deg"}
    label = name.removesuffix(ends.get(unit, "")).removesuffix("_db").replace("_", " ").capitalize()
    common = {"name": name, "label": label, "help": told.get("description", ""), "default": told.get("default")}
    if told.get("role") == "bands":
        model = schema["$defs"]["Band"]
        bands = [controls_from(model, band, 0) for band in value or ()]
        return Control(**common, value=bands, sort="bands")
    if told.get("role") == "channels":
        return Control(**common, value=list(value or ()), sort="channels")
    if told.get("type") == "boolean":
        return Control(**common, value=value, sort="switch")
    if "enum" in told:
        choices = tuple((word, word.replace("_", " ").capitalize()) for word in told["enum"])
        return Control(**common, value=value, sort="choice", choices=choices)
    if "minimum" not in told:
        return Control(**common, value=value, sort="fixed")
    return Control(
        **common, value=value, sort="number", unit=unit, low=told["minimum"], high=told["maximum"],
        step=told["step"], scale=told.get("scale", "linear"),
    )  # fmt: skip
