"""Common ground of everything in a mix."""

from typing import Annotated

from pydantic import AfterValidator, BaseModel, ConfigDict, Field

from metaphon.core.spatial.layouts import layout_to_play_on

Layout = Annotated[str, AfterValidator(lambda name: layout_to_play_on(name).name)]
Identifier = Annotated[str, Field(pattern=r"^[A-Za-z0-9][A-Za-z0-9_.-]{0,63}$")]
SILENT_DB = -120.0
GainDb = Annotated[
    float, Field(ge=SILENT_DB, le=12.0, json_schema_extra={"unit": "dB", "step": 0.1})
]
LATEST_S = 86_400.0
TimeS = Annotated[float, Field(ge=0.0, le=LATEST_S, json_schema_extra={"unit": "s"})]


class Part(BaseModel):
    """Frozen, nothing unknown, no number that is not a number."""

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)
