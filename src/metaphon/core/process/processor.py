"""What a processor is: a frozen set of parameters, and something at work that follows them."""

from abc import ABC, abstractmethod
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, ClassVar, Protocol

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field

from metaphon.core.dsp.block import Block
from metaphon.core.dsp.motion import Motion

_TWO_SIDES = 2
FORGOTTEN_DB = 140.0  # what has fallen so far is as if it had never been, whatever is softer now


@dataclass(frozen=True)
class Channels:
    """What the channels are that a processor works on: how many, and what they carry.

    `lfe` has the places of channels for low frequencies; `order` is that of an ambisonic scene;
    `angles_deg` are azimuth and elevation of each loudspeaker, where they are such.
    """

    count: int
    lfe: tuple[int, ...] = ()
    order: int | None = None
    angles_deg: tuple[tuple[float, float], ...] = ()

    @property
    def weights(self) -> NDArray[np.float64]:
        """What each has of a diffuse field, (count): 1, but in a scene 1 / sqrt(2n + 1) (SN3D)."""
        if self.order is None:
            return np.ones(self.count)
        degrees = np.floor(np.sqrt(np.arange(self.count)))
        return 1.0 / np.sqrt(2.0 * degrees + 1.0)


class Running(Protocol):
    """A processor at work, with its memory of what went before, whatever becomes of its parameters.

    What it gives out is `latency` samples late, as much as it was started with.
    """

    def process(self, block: Block, parameters: Motion[Any], at: int) -> Block:
        """Take (channels, frames) and give as many back; the block taken is not written to.

        Parameters
        ----------
        block
            It begins at a multiple of PIECE of the mix.
        parameters
            The processor's own, as they move within the block; it is no longer than PIECE then.
        at
            The frame of the mix that the block begins with, for what goes by the time of the mix.
        """


class GainRunning(Running, Protocol):
    """A processor at work whose gain follows the level of what it takes in.

    `gains` are those of the last block as it came out, (frames).
    """

    gains: NDArray[np.float64]

    def follow(self, block: Block, parameters: Motion[Any], gains: NDArray[np.float32]) -> Block:
        """Take and give as `process` does, with gains that were found elsewhere, (frames)."""


class Processor(BaseModel, ABC):
    """The parameters of one processor, each with unit, range, default.

    Step and one line of help.
    """

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)

    title: ClassVar[str]
    is_reverb: ClassVar[bool] = False  # whether its sound goes on as a room's does
    for_two_sides: ClassVar[bool] = False  # whether it does nothing on any but two channels
    gain_follows_level: ClassVar[bool] = False  # as of a limiter: stems have to share its gain
    begins_with: ClassVar[dict[str, Any]] = {}  # values of one that is newly added
    starting_points: ClassVar[dict[str, dict[str, Any]]] = {}  # settings by what they are called
    groups: ClassVar[tuple[str, ...]] = ()  # headings of its parameters, in their order

    bypassed: bool = Field(False, description="Leave the sound as it came.")

    @abstractmethod
    def start(self, channels: Channels, rate_hz: int, latency: int) -> Running:
        """Begin with silence behind it.

        Parameters
        ----------
        channels, rate_hz
            Of the sound.
        latency
            How many samples late it is to be: `latency_samples` at least of all it will be set to.
        """

    def apply(self, block: Block, rate_hz: int) -> Block:
        """A whole sound, (channels, frames), through this processor at rest, as late as it is."""
        late = self.latency_samples(rate_hz)
        return self.start(Channels(len(block)), rate_hz, late).process(block, Motion.still(self), 0)

    @property
    def decided_by(self) -> Mapping[str, str]:
        """Values that another one decides as they are set now: the names of both."""
        return {}

    def tail_s(self, rate_hz: int, fall_db: float = 60.0) -> float:
        """How long it goes on sounding after its input has ended, until it has fallen so far."""
        return 0.0

    def memory_s(self, rate_hz: int) -> float:
        """How far back its input reaches into its output: what was before changes nothing.

        By default as long as its tail takes to be forgotten. A processor whose gain follows the
        level of its input remembers longer than it sounds.
        """
        return self.tail_s(rate_hz, FORGOTTEN_DB)

    @property
    def is_endless(self) -> bool:
        """Whether it may keep what sounds, so that what was long ago is never forgotten."""
        return False

    def latency_samples(self, rate_hz: int) -> int:
        """How many samples late it gives its sound; the graph makes up for it."""
        return 0

    def at_tempo(self, tempo_bpm: float) -> "Processor":
        """The same with its notes as times, at a tempo in quarters a minute."""
        return self

    @property
    def needs_two_sides(self) -> bool:
        """Whether a mono recording is given it on two channels."""
        return False

    @classmethod
    def idle_on(cls, channels: int) -> str:
        """Why it would do nothing on so many channels, in a sentence; empty where it works."""
        if not cls.for_two_sides or channels == _TWO_SIDES:
            return ""
        return f"{cls.title} works on two channels; on {channels} it does nothing."

    @property
    def link(self) -> str:
        """What it is linked by with others of its kind; empty where it goes alone."""
        return ""

    @property
    def room_alone(self) -> "Processor":
        """The same without the sound as it came, where it is a reverb."""
        return self

    @property
    def passes_dry(self) -> bool:
        """Whether what comes in also goes out as it came.

        As no reverb on a return should let it.
        """
        return True

    def matrix(self, channels: int) -> NDArray[np.float64] | None:
        """What it does to channels apart from filtering and delay, (channels, channels).

        None where that is not all.

        What is no matrix at heart, such as an equaliser or a reverb, gives None.
        """
        return None

    def pair_powers(
        self, powers: NDArray[np.float64], hertz: NDArray[np.float64], rate_hz: int
    ) -> NDArray[np.float64] | None:
        """Mean products of a pair after it by those before it; None where they do not tell.

        Parameters
        ----------
        powers : (bands, 2, 2) float64
            The mean products of left and right in narrow bands.
        hertz : (bands,) float64
            Their middles.
        rate_hz : int
            The sample rate.
        """
        matrix = self.matrix(2)
        return None if matrix is None else matrix @ powers @ matrix.T

    @property
    def brief(self) -> str:
        """What it is, in as few words as tell it from others of its kind."""
        return self.title

    def remark(self, rate_hz: int) -> str:
        """What these settings cost or lose, in a sentence; empty where there is nothing to say."""
        return ""

    def delay_and_polarity(self, channel: int = 1) -> tuple[float, int]:
        """The delay in ms and the polarity, 1 or -1, that it gives to a channel, from 1 on."""
        return 0.0, 1

    def response(
        self, frequencies_hz: NDArray[np.float64], rate_hz: int
    ) -> NDArray[np.complex128] | None:
        """What it does to each frequency, its latency not counted.

        None where no such curve says it.
        """
        return None


def parameter(  # noqa: PLR0913
    default: float,
    low: float,
    high: float,
    *,
    unit: str,
    step: float,
    help: str,
    scale: str = "linear",
    channels: int | None = None,
    moves: bool = True,
    group: str = "",
) -> Any:
    """Declare a numeric parameter with all that a screen needs to draw its control.

    Parameters
    ----------
    default, low, high, step
        In `unit`.
    unit
        As it is shown: dB, Hz, ms, ...
    help
        One sentence for whoever meets it first.
    scale
        `linear` or `log`.
    channels
        Where it is given, the parameter counts only for strips of that many.
    moves
        Whether it takes automation.
    group
        Under which heading it stands, one of the processor's `groups`.
    """
    extra: Any = {"unit": unit, "step": step, "scale": scale, "channels": channels, "moves": moves}
    extra |= {"group": group} if group else {}
    return Field(default, ge=low, le=high, description=help, json_schema_extra=extra)


def switch(default: bool, *, help: str, channels: int | None = None, group: str = "") -> Any:
    """Declare an on/off parameter."""
    extra: Any = {"channels": channels, "group": group} if group else {"channels": channels}
    return Field(default, description=help, json_schema_extra=extra)


def choice(
    default: str, *, help: str, channels: int | None = None, unit: str = "", group: str = ""
) -> Any:
    """Declare a parameter that takes one of the words, or figures, of its Literal type."""
    extra: Any = {"channels": channels}
    extra |= ({"unit": unit} if unit else {}) | ({"group": group} if group else {})
    return Field(default, description=help, json_schema_extra=extra)
