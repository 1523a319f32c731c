"""What a listener may ask of the engine: how it is to be heard, and what to do."""

from typing import Literal

from pydantic import Field

from metaphon.core.document.part import Part
from metaphon.core.listen.monitor import Monitor, MonitorSource
from metaphon.core.listen.watched import Watched

_MOST_FRAMES = 2**48


class Sides(Part):
    """What is heard on each side of a comparison."""

    a: MonitorSource = MonitorSource()
    b: MonitorSource = MonitorSource()


class Hearing(Part):
    """All that a listener has set. A loop is from and up to a frame of the mix."""

    monitor_sources: Sides
    monitor: Monitor
    loop: tuple[float, float] | None = None
    comparing: bool = False
    active: Literal["a", "b", "x"] = "a"
    matched: bool = False
    watched: Watched | None = None


class Wish(Part):
    """Something to do at once.

    Play or jump to a frame of the mix (`at`); what was played of which stretch of listening
    (`epoch`, `frames`, `gaps`, the `least` frames that were left to play); a blind comparison begun
    or ended (`on`); an answer (`side`).
    """

    do: Literal["play", "pause", "jump", "played", "reset", "blind", "answer"]
    at: float = Field(0, ge=0, le=_MOST_FRAMES)
    epoch: float = Field(0, ge=0, le=_MOST_FRAMES)
    frames: float = Field(0, ge=0, le=_MOST_FRAMES)
    gaps: float = Field(0, ge=0, le=_MOST_FRAMES)
    least: float | None = Field(None, ge=0, le=_MOST_FRAMES)
    on: bool = False
    side: Literal["a", "b"] = "a"
