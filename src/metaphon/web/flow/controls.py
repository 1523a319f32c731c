"""The controls of a processor, drawn from its parameter model."""

from metaphon.core.process.registry import KINDS
from metaphon.web.mixes.models import Processor
from metaphon.web.shell.controls import Control, controls_from

# settings that are not controls of their own
_APART = ("kind", "bypassed")


def controls_of(row: Processor, channels: int = 0) -> list[Control]:
    """Every parameter of a processor that counts for so many channels (0: all), in the order of its model."""
    found = controls_from(KINDS[row.kind].model_json_schema(), row.parameters, channels)
    return [control for control in found if control.name not in _APART]


def band_controls(row: Processor, place: int) -> list[Control]:
    """The controls of one band of an equaliser."""
    schema = KINDS[row.kind].model_json_schema()
    return controls_from(schema["$defs"]["Band"], row.parameters["bands"][place], 0)


def title_of(row: Processor) -> str:
    return KINDS[row.kind].title
