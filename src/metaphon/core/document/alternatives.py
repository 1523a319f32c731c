"""Other programmes over the same mix, and what a listener may change of one."""

import re
from typing import Annotated, Literal

from pydantic import AfterValidator, Field

from metaphon.core.document.part import Identifier, Name, Part
from metaphon.core.process.processor import choice, parameter, switch


def is_language(text: str) -> bool:
    """Whether it is the code of a language, or empty."""
    return not text or bool(re.fullmatch(r"[A-Za-z]{2,3}(-[A-Za-z0-9]{1,8})*", text))


def _language(text: str) -> str:
    if not is_language(text):
        raise ValueError("a language is told by its code, such as en, nb or pt-BR")
    return text


Language = Annotated[
    str,
    AfterValidator(_language),
    Field(max_length=35, description="Code of its language (RFC 5646), such as en or nb."),
]


class Varied(Part):
    """A strip that is kept apart, since it is not the same in every programme or for everybody.

    `choice` is a word that several share, of which one is heard at a time.
    """

    strip: Identifier
    switched: bool = switch(False, help="A listener may turn it on and off.")
    least_db: float = parameter(
        0.0, -60.0, 0.0, unit="dB", step=0.5, moves=False, help="How far it may be turned down."
    )
    most_db: float = parameter(
        0.0, 0.0, 12.0, unit="dB", step=0.5, moves=False, help="How far it may be turned up."
    )
    azimuth_deg: float = parameter(
        0.0, 0.0, 180.0, unit="°", step=1.0, moves=False, help="How far it may be moved aside."
    )
    elevation_deg: float = parameter(
        0.0, 0.0, 90.0, unit="°", step=1.0, moves=False, help="How far it may be moved up or down."
    )
    choice: Name = Field("", max_length=60, description="Of those that share this word one is on.")

    @property
    def is_open(self) -> bool:
        """Whether a listener may change anything of it."""
        return bool(
            self.switched or self.choice or self.least_db or self.most_db or self.may_be_moved
        )

    @property
    def may_be_moved(self) -> bool:
        """Whether a listener may move it."""
        return bool(self.azimuth_deg or self.elevation_deg)


class Variation(Part):
    """What is otherwise of a strip in a programme than in the mix."""

    strip: Identifier
    heard: Literal["as_in_mix", "heard", "silent"] = choice(
        "as_in_mix", help="Whether it is heard."
    )
    gain_db: float = parameter(
        0.0, -60.0, 12.0, unit="dB", step=0.5, moves=False, help="On top of its fader."
    )


class Alternative(Part):
    """A programme over the same mix: another language, a louder narrator, none at all."""

    id: Identifier
    name: Name = Field(min_length=1, max_length=80)
    language: Language = ""
    variations: tuple[Variation, ...] = ()

    def of(self, strip: str) -> Variation:
        """What is otherwise of a strip."""
        found = (one for one in self.variations if one.strip == strip)
        return next(found, Variation(strip=strip))


class Alternatives(Part):
    """All programmes beside the mix itself, and the strips that they differ in.

    What is said of a strip that is no longer there counts for nothing.
    """

    language: Language = ""
    varied: tuple[Varied, ...] = Field((), max_length=64)
    programmes: tuple[Alternative, ...] = Field((), max_length=32)

    def find(self, alternative: str) -> Alternative | None:
        """The programme of an id; None where it is not there."""
        return next((one for one in self.programmes if one.id == alternative), None)


NONE = Alternatives()
