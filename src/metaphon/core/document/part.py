"""Common ground of everything in a mix."""

import unicodedata
from typing import Annotated, Any

from pydantic import AfterValidator, BaseModel, BeforeValidator, ConfigDict, Field

from metaphon.core.spatial.layouts import layout_to_play_on

Layout = Annotated[str, AfterValidator(lambda name: layout_to_play_on(name).name)]
Identifier = Annotated[str, Field(pattern=r"^[A-Za-z0-9][A-Za-z0-9_.-]{0,63}$")]


def _one_line(value: Any) -> Any:
    return "".join(map(_visible, value)) if isinstance(value, str) else value


def _lines(value: Any) -> Any:
    if not isinstance(value, str):
        return value
    return "\n".join(map(_one_line, value.replace("\r\n", "\n").split("\n")))


def _visible(letter: str) -> str:
    """The letter, or a space for what is none: control characters, and marks that turn the line."""
    is_hidden = unicodedata.category(letter) == "Cc" or letter in "\u202a\u202b\u202c\u202d\u202e"
    return " " if is_hidden else letter


Name = Annotated[str, BeforeValidator(_one_line)]  # on one line, without control characters
Text = Annotated[str, BeforeValidator(_lines)]
SILENT_DB = -120.0
GainDb = Annotated[
    float, Field(ge=SILENT_DB, le=12.0, json_schema_extra={"unit": "dB", "step": 0.1})
]
LATEST_S = 86_400.0
TimeS = Annotated[float, Field(ge=0.0, le=LATEST_S, json_schema_extra={"unit": "s"})]


class Part(BaseModel):
    """Frozen, nothing unknown, no number that is not a number."""

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)
