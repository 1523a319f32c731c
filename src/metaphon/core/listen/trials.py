"""Edits that are tried out before they are kept.

What is heard is the mix as it is kept, with these on top.
"""

import time
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

from metaphon.core.document.difference import Change, with_changes
from metaphon.core.document.mix import Mix
from metaphon.core.edits.command import Command, apply
from metaphon.core.edits.registry import read
from metaphon.core.errors import InputError

_MOST = 64  # controls that are tried out at once
_LOST_S = 5.0  # an edit of which nothing more was heard for so long is not waited for


@dataclass(frozen=True)
class _Trial:
    """`edit` is the id under which it was sent to be kept; None while it is under the hand."""

    command: Command
    edit: str | None
    since: float


class Trials:
    """The edits under the hand or on their way, by control, and the kept mix beneath them.

    The very command that is tried out is the one that is kept, so what is heard is what comes of
    it.
    """

    def __init__(self) -> None:
        self._kept: Mix | None = None
        self._trials: dict[str, _Trial] = {}

    def keep(self, mix: Mix | list[Change], edits: Iterable[str]) -> Mix:
        """Take in the mix as it is kept now, whole or what has changed of it.

        With the ids of the edits that it contains. Gives what is heard.
        """
        if isinstance(mix, list):
            assert self._kept is not None, "the first mix comes whole"
            mix = with_changes(self._kept, mix)
        self._kept = mix
        gone = set(edits)
        now = time.monotonic()
        self._trials = {
            control: trial
            for control, trial in self._trials.items()
            if trial.edit is None or (trial.edit not in gone and now - trial.since < _LOST_S)
        }
        return self._heard(mix)

    def try_out(self, command: dict[str, Any], control: str, edit: str | None) -> Mix | None:
        """Take in what a control says now; gives what is heard, None before there is a mix."""
        self._trials.pop(control, None)
        self._trials[control] = _Trial(read(command), edit, time.monotonic())
        while len(self._trials) > _MOST:
            self._trials.pop(next(iter(self._trials)))
        return self._heard(self._kept) if self._kept else None

    def release(self, control: str) -> Mix | None:
        """Forget what a control said: it was let go without an edit, or the edit was refused."""
        self._trials.pop(control, None)
        return self._heard(self._kept) if self._kept else None

    def _heard(self, mix: Mix) -> Mix:
        for trial in self._trials.values():
            try:
                mix = apply(mix, trial.command)
            except InputError:
                continue  # said in words when it is sent to be kept
        return mix
