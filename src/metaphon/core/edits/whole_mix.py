"""What counts for a mix as a whole: how it folds down, and what it is to be delivered as."""

from typing import Any, Literal

from pydantic import Field

from metaphon.core.document.delivery_limits import DeliveryLimits
from metaphon.core.document.fold_down import FoldDown
from metaphon.core.document.mix import FrameRateName, Mix
from metaphon.core.edits.command import Command
from metaphon.core.edits.typed_values import extra_of, label_of, read_value
from metaphon.core.errors import InputError
from metaphon.core.measure.timecode import RATES, read_timecode


class SetFoldDown(Command):
    """Set what is kept of what a target has no loudspeaker for."""

    kind: Literal["set_fold_down"] = "set_fold_down"
    path: str = Field(max_length=40, description="A field of fold_down, such as surround_db.")
    value: bool | float | str | None = Field(
        description="A level as people type it, on or off; of the LFE nothing is off."
    )

    def apply(self, mix: Mix) -> Mix:
        new = mix.fold_down.model_copy(update={self.path: self._read(mix)})
        return mix.model_copy(update={"fold_down": new})

    def describe(self, mix: Mix) -> str:
        value = self._read(mix)
        field = FoldDown.model_fields[self.path]
        if isinstance(value, bool) or value is None:
            shown = "on" if value else "off"
        else:
            shown = f"{value:g} {extra_of(field)['unit']}"
        label = label_of(self.path, field).replace("Lfe", "LFE")
        return f"Fold-down: {label if label == 'LFE' else label.lower()} {shown}"

    def _read(self, mix: Mix) -> Any:
        if self.path not in FoldDown.model_fields:
            raise InputError(f"There is no value {self.path} of the fold-down.")
        return read_value(mix.fold_down, self.path, self.value, mix.sample_rate_hz)


class ResetFoldDown(Command):
    """Fold down as published again."""

    kind: Literal["reset_fold_down"] = "reset_fold_down"

    def apply(self, mix: Mix) -> Mix:
        return mix.model_copy(update={"fold_down": FoldDown()})

    def describe(self, mix: Mix) -> str:
        return "Fold-down as published"


class SetTempo(Command):
    """Set the tempo of the mix, by which times said as notes go."""

    kind: Literal["set_tempo"] = "set_tempo"
    value: float | str = Field(description="Quarters a minute, as people type it.")

    def apply(self, mix: Mix) -> Mix:
        return mix.model_copy(update={"tempo_bpm": self._read(mix)})

    def describe(self, mix: Mix) -> str:
        return f"Tempo {self._read(mix):g} BPM"

    def _read(self, mix: Mix) -> float:
        return float(read_value(mix, "tempo_bpm", self.value, mix.sample_rate_hz))


class SetStartTime(Command):
    """Set the timecode that the mix begins at, and the frame rate that it is counted by."""

    kind: Literal["set_start_time"] = "set_start_time"
    start: str = Field(max_length=40, description="Such as 10:00:00:00.")
    frame_rate: FrameRateName = Field(
        description="How many frames a second, and whether some drop."
    )

    def apply(self, mix: Mix) -> Mix:
        return mix.model_copy(
            update={"start_timecode": self._start(), "frame_rate": self.frame_rate}
        )

    def describe(self, mix: Mix) -> str:
        return f"The mix begins at {self._start()}, {RATES[self.frame_rate].title} frames"

    def _start(self) -> str:
        rate = RATES[self.frame_rate]
        return read_timecode(self.start, rate).told(rate.drops)


class ChooseDelivery(Command):
    """Hold the mix against the limits of a delivery; the mix keeps a copy of them."""

    kind: Literal["choose_delivery"] = "choose_delivery"
    delivery: DeliveryLimits

    def apply(self, mix: Mix) -> Mix:
        return mix.model_copy(update={"delivery": self.delivery})

    def describe(self, mix: Mix) -> str:
        return f"Delivery: {self.delivery.title}"
