"""A room from its response: what it made of a click, made of everything."""

from collections import deque
from typing import Annotated, Any, ClassVar, Literal

import numpy as np
from pydantic import AfterValidator, Field

from metaphon.core.dsp.block import Block
from metaphon.core.dsp.motion import PIECE, Memo, Motion
from metaphon.core.dsp.partitioned import LongConvolver, Responses, prepared
from metaphon.core.dsp.sections import Cascade, Sections, ring_s
from metaphon.core.kept_form import NamedFile
from metaphon.core.process.eq import Band
from metaphon.core.process.eq import Shape as BandShape
from metaphon.core.process.impulse_response import (
    DENSER_S,
    LONGEST_S,
    Form,
    Key,
    Shape,
    behind,
    describe_channels,
    form_of,
    length_s,
)
from metaphon.core.process.processor import Channels, Running, choice, parameter
from metaphon.core.process.reverb import LONGEST_PREDELAY_MS, Reverb, RoomAround

_SHELF_Q, _BODY_Q = 0.5, 0.6  # broad
# of a core at 48 kHz, as bin/bench reverb measures it: for a channel, and for each second of it
_COST_PERCENT, _COST_OF_A_SECOND = 0.5, 0.12


class ConvolutionReverb(Reverb):
    """A space by its response, from a file: recorded, made here, or one of those that ship."""

    title: ClassVar[str] = "Convolution reverb"
    starting_points: ClassVar[dict[str, dict[str, Any]]] = {
        "As measured": {
            "decay": 1.0,
            "bass_decay": 1.0,
            "treble_decay": 1.0,
            "distance": 0.5,
            "density": 0.0,
            "low_shelf_db": 0.0,
            "body_db": 0.0,
            "high_shelf_db": 0.0,
            "low_cut_hz": 20.0,
            "high_cut_hz": 20000.0,
            "width": 1.0,
        },
        "Short and clear": {
            "decay": 0.4,
            "bass_decay": 0.7,
            "distance": 0.35,
            "low_cut_hz": 120.0,
        },
        "Dark and far": {"treble_decay": 0.5, "distance": 0.8, "high_shelf_db": -6.0},
    }

    kind: Literal["convolution_reverb"] = "convolution_reverb"
    file: Annotated[NamedFile | None, AfterValidator(lambda path: path or None)] = Field(
        None,
        description="The response, relative to the document; silent where there is none.",
        json_schema_extra={"role": "response"},
    )
    form: Literal["auto", "true_stereo", "scene", "surround"] = choice(
        "auto", group="Space", help="What four channels or more hold; by the bus where auto."
    )
    input_as: Literal["summed", "apart"] = choice(
        "summed",
        channels=2,
        group="Space",
        help="Summed: one source in the room; apart: each side has a response of its own.",
    )
    distance: float = parameter(
        0.5,
        0.0,
        1.0,
        unit="",
        step=0.01,
        moves=False,
        group="Space",
        help="0 near, 0.5 as measured, 1 far: early sound against late.",
    )
    decay: float = parameter(
        1.0,
        0.05,
        1.0,
        unit="",
        step=0.01,
        scale="log",
        moves=False,
        group="Decay",
        help="Decay as a part of the measured one; never below 0.3 s.",
    )
    bass_decay: float = parameter(
        1.0,
        0.1,
        4.0,
        unit="",
        step=0.01,
        scale="log",
        moves=False,
        group="Decay",
        help="Decay below the bass corner, as a part of the decay.",
    )
    treble_decay: float = parameter(
        1.0,
        0.1,
        4.0,
        unit="",
        step=0.01,
        scale="log",
        moves=False,
        group="Decay",
        help="Decay above the treble corner, as a part of the decay.",
    )
    bass_corner_hz: float = parameter(
        200.0,
        40.0,
        1000.0,
        unit="Hz",
        step=1.0,
        scale="log",
        moves=False,
        group="Decay",
        help="Corner between the bass and the middle.",
    )
    treble_corner_hz: float = parameter(
        4000.0,
        1200.0,
        12000.0,
        unit="Hz",
        step=10.0,
        scale="log",
        moves=False,
        group="Decay",
        help="Corner between the middle and the treble.",
    )
    density: float = parameter(
        0.0,
        0.0,
        1.0,
        unit="",
        step=0.01,
        moves=False,
        group="Reflections",
        help="How many reflections are added to those measured.",
    )
    low_shelf_hz: float = parameter(
        200.0,
        40.0,
        800.0,
        unit="Hz",
        step=1.0,
        scale="log",
        group="Tone",
        help="Below it the bass is lifted or lowered.",
    )
    low_shelf_db: float = parameter(
        0.0, -12.0, 12.0, unit="dB", step=0.1, group="Tone", help="Bass of the room."
    )
    body_hz: float = parameter(
        400.0,
        150.0,
        3000.0,
        unit="Hz",
        step=1.0,
        scale="log",
        group="Tone",
        help="Where boxiness is taken out or body added.",
    )
    body_db: float = parameter(
        0.0, -12.0, 12.0, unit="dB", step=0.1, group="Tone", help="Body of the room."
    )
    high_shelf_hz: float = parameter(
        5000.0,
        1000.0,
        15000.0,
        unit="Hz",
        step=10.0,
        scale="log",
        group="Tone",
        help="Above it the treble is lifted or lowered.",
    )
    high_shelf_db: float = parameter(
        0.0, -12.0, 12.0, unit="dB", step=0.1, group="Tone", help="Treble of the room."
    )

    predelay_ms: float = parameter(
        0.0,
        0.0,
        LONGEST_PREDELAY_MS,
        unit="ms",
        step=1.0,
        group="Space",
        help="Time before the room answers; 0 as it was measured.",
    )

    def start(self, channels: Channels, rate_hz: int, latency: int) -> Running:
        return _ConvolutionReverb(channels, rate_hz)

    def tail_s(self, rate_hz: int, fall_db: float = 60.0) -> float:
        if self.file is None:
            return 0.0
        tone = sum(ring_s(sections, rate_hz, fall_db) for sections in self.tone(rate_hz))
        dense = DENSER_S if self.density else 0.0
        return length_s(self.file) + self.around_s(rate_hz, fall_db) + tone + dense

    @property
    def shape(self) -> Shape:
        """What is made of the response before it sounds."""
        return Shape(**{name: getattr(self, name) for name in Shape._fields})

    def form_on(self, channels: Channels) -> Form:
        """What the response is taken for on channels. Raises InputError where it is no use."""
        assert self.file is not None
        found = form_of(self.file)
        if found in ("scene", "surround") and self.form != "auto":
            return self.form
        # four channels are a scene on a scene, and on two sides what goes from each to each
        return "true_stereo" if found == "scene" and channels.count == 2 else found

    def tone(self, rate_hz: int) -> tuple[Sections, ...]:
        """What becomes of the room's sound behind the microphone."""
        bands: tuple[tuple[BandShape, float, float, float], ...] = (
            ("low_shelf", self.low_shelf_hz, self.low_shelf_db, _SHELF_Q),
            ("bell", self.body_hz, self.body_db, _BODY_Q),
            ("high_shelf", self.high_shelf_hz, self.high_shelf_db, _SHELF_Q),
        )
        return tuple(
            Band(shape=shape, frequency_hz=hertz, gain_db=gain, q=q).sections(rate_hz)
            for shape, hertz, gain, q in bands
        )

    def remark(self, rate_hz: int) -> str:
        if self.file is None:
            return "Choose a space: nothing sounds until then."
        seconds = length_s(self.file)
        cost = 2.0 * (_COST_PERCENT + _COST_OF_A_SECOND * seconds) * rate_hz / 48000
        held = describe_channels(self.file)
        told = "" if self.form == "auto" else " (set otherwise under Form)"
        return (
            f"{held}{told}. {seconds:.1f} s, levelled to unit energy; about {cost:.1f} % of a core "
            "in stereo."
        )


class _ConvolutionReverb:
    """The responses at work. A new one passes over from the old, which sounds until it is ready."""

    def __init__(self, channels: Channels, rate_hz: int) -> None:
        self._channels, self._rate_hz = channels, rate_hz
        self._around = RoomAround(channels, rate_hz)
        self._tone = Cascade(channels.count)
        self._sections: Memo[ConvolutionReverb, tuple[Sections, ...]] = Memo(
            lambda one: one.tone(rate_hz)
        )
        self._past: deque[Block] = deque()  # what came before, for a response that comes later
        self._kept = 0  # frames of it
        self._key: Memo[ConvolutionReverb, Key | None] = Memo(self._key_of)
        self._convolver: LongConvolver | None = None
        self._heard: Key | None = None
        self._asked: Key | None = None

    def process(self, block: Block, parameters: Motion[ConvolutionReverb], at: int) -> Block:
        return self._around.process(
            block, parameters, lambda source: self._room(source, parameters, at)
        )

    def _room(self, source: Block, parameters: Motion[ConvolutionReverb], at: int) -> Block:
        out = self._convolved(source, parameters.values[-1], at)
        self._past.append(source)
        self._kept += source.shape[1]
        while self._kept - self._past[0].shape[1] > (LONGEST_S + 1.0) * self._rate_hz:
            self._kept -= self._past.popleft().shape[1]
        return self._tone.process(out, parameters.map(self._sections))

    def _convolved(self, source: Block, wanted: ConvolutionReverb, at: int) -> Block:
        before = self._convolver
        new = self._new(wanted)
        if new is None:
            return before.process(source) if before else np.zeros_like(source)
        first = source[:, :PIECE]
        past = np.concatenate([source[:, :0], *self._past], axis=1)
        begun = past.any() or before is not None
        self._convolver = LongConvolver(new, past, at) if len(new.ways) else None
        after = self._convolver.process(source) if self._convolver else np.zeros_like(source)
        if begun:  # the first piece passes over
            old = before.process(first) if before else np.zeros_like(first)
            line = np.linspace(0.0, 1.0, first.shape[1], dtype=np.float32)
            after[:, :PIECE] = old + (after[:, :PIECE] - old) * line
        return after

    def _new(self, wanted: ConvolutionReverb) -> Responses | None:
        """Other responses than those that sound, as soon as they are ready."""
        key = self._key(wanted)
        if self._asked not in (None, key):  # not wanted any more
            behind.forget(self._asked)
        self._asked = key
        if key == self._heard:
            return None
        found = behind.get(key) if key else _SILENT
        if found is not None:
            self._heard = key
        return found

    def _key_of(self, wanted: ConvolutionReverb) -> Key | None:
        """What the responses are made of; None where there are none."""
        if wanted.file is None:
            return None
        return Key(
            wanted.file,
            wanted.shape,
            wanted.form_on(self._channels),
            wanted.input_as == "apart",
            self._channels,
            self._rate_hz,
        )


_SILENT = prepared(np.zeros((0, 0)), np.zeros((0, 0, 0), dtype=np.float32), 0)
