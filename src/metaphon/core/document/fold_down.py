"""What of a mix is kept where a target has no loudspeaker for it."""

from typing import Any

from pydantic import Field

from metaphon.core.document.part import SILENT_DB, Part
from metaphon.core.process.processor import parameter, switch
from metaphon.core.spatial.downmix import Shares


def _share(default: float, help: str) -> Any:
    return parameter(default, SILENT_DB, 0.0, unit="dB", step=0.5, moves=False, help=help)


class FoldDown(Part):
    """Levels of what is folded down, in dB; 3 dB halve the power, and -120 is nothing.

    Starts as published in ITU-R BS.775-4, annex 4, table 2.
    """

    centre_db: float = _share(-3.0, "A centre at left and right, each.")
    surround_db: float = _share(-3.0, "A surround in front, on its own side.")
    height_db: float = _share(0.0, "What is above, at the level of the ears.")
    lfe_db: float | None = Field(
        None,
        ge=-60.0,
        le=10.0,
        description="The LFE at left and right, or at both ears; nothing where empty.",
        json_schema_extra={"unit": "dB", "step": 0.5, "moves": False},
    )
    surround_shift: bool = switch(
        False,
        help="Surrounds folded to the front are 90 degrees behind it in phase, so that they do "
        "not cancel.",
    )

    @property
    def shares(self) -> Shares:
        """The same as gains: a step of 3 dB is the square root of 2, as published tables have it.

        Source: ETSI TS 102 366, table of centre and surround mix levels (from memory).
        """
        lfe = 0.0 if self.lfe_db is None else 10.0 ** (self.lfe_db / 20.0)
        return Shares(_gain(self.centre_db), _gain(self.surround_db), _gain(self.height_db), lfe)


def _gain(level_db: float) -> float:
    return 0.0 if level_db <= SILENT_DB else float(2.0 ** (level_db / 6.0))
