"""The controls of a processor, drawn from its parameter model."""

from dataclasses import dataclass

from metaphon.core.process.registry import KINDS
from metaphon.web.mixes.models import Processor


@dataclass(frozen=True)
class Control:
    """One parameter as the screen shows it."""

    name: str
    label: str
    help: str
    value: float | bool
    is_switch: bool
    unit: str = ""
    low: float = 0.0
    high: float = 1.0
    step: float = 0.01
    default: float | bool = 0.0


def controls_of(row: Processor) -> list[Control]:
    """Every parameter of a processor, in the order of its model."""
    model = KINDS[row.kind]
    properties = model.model_json_schema()["properties"]
    controls = []
    for name, told in properties.items():
        if name == "kind":
            continue
        label = name.removesuffix(f"_{told.get('unit', '')}").replace("_", " ").capitalize()
        value = row.parameters.get(name, told["default"])
        if told["type"] == "boolean":
            controls.append(Control(name, label, told["description"], value, True, default=told["default"]))
            continue
        controls.append(
            Control(
                name, label, told["description"], value, False,
                told["unit"], told["minimum"], told["maximum"], told["step"], told["default"],
            )
        )  # fmt: skip
    return controls


def title_of(row: Processor) -> str:
    return KINDS[row.kind].title
