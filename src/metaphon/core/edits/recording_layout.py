"""What the channels of recordings are: set as a layout, or channel by channel."""

from typing import Annotated, Literal

from pydantic import AfterValidator, Field

from metaphon.core.document.mix import Mix, Track
from metaphon.core.document.part import Identifier
from metaphon.core.edits.command import Command, Strips, changed, names, strip_of
from metaphon.core.errors import InputError, Vanished
from metaphon.core.spatial.layouts import LOUDSPEAKERS
from metaphon.core.spatial.recording_layout import (
    LONGEST_LAYOUT,
    UNUSED,
    recorded_as,
    recorded_text,
)


def _known(label: str) -> str:
    if label not in LOUDSPEAKERS and label != UNUSED:
        raise ValueError(f"there is no loudspeaker {label}; choose one from the list")
    return label


Label = Annotated[str, Field(max_length=8), AfterValidator(_known)]


class SetRecordingLayout(Command):
    """Say what the channels of a track's recordings are; nothing goes by their number again."""

    kind: Literal["set_recording_layout"] = "set_recording_layout"
    strips: Strips
    layout: str = Field(
        max_length=LONGEST_LAYOUT,
        description="A layout, as 4+5+0, or a label for each channel: M+030 M-030 ...",
    )

    def apply(self, mix: Mix) -> Mix:
        text = recorded_text(self.layout)
        if any(not isinstance(strip_of(mix, one), Track) for one in self.strips):
            raise InputError("Only tracks have recordings; a bus has a width.")
        return changed(mix, self.strips, lambda track: {"layout": text})

    def describe(self, mix: Mix) -> str:
        text = recorded_text(self.layout)
        shown = recorded_as(text).layout.title if text else "what their number suggests"
        return f"{names(mix, self.strips)}: channels are {shown}"


class SetChannel(Command):
    """Say which loudspeaker one channel of a track's recordings is; two exchange theirs."""

    kind: Literal["set_channel"] = "set_channel"
    strip: Identifier
    channel: int = Field(ge=1, le=64, description="Counted from 1.")
    labels: tuple[Label, ...] = Field(
        max_length=64, description="What all channels are taken for now, in order."
    )
    label: Label = Field(description="The loudspeaker, such as M+030; - for none.")

    def apply(self, mix: Mix) -> Mix:
        labels = list(self.labels)
        if not 1 <= self.channel <= len(labels):
            raise Vanished("This channel is no longer there; look again.")
        if self.label in labels and self.label != UNUSED:
            labels[labels.index(self.label)] = labels[self.channel - 1]
        labels[self.channel - 1] = self.label
        layout = " ".join(labels)
        if len(layout) > LONGEST_LAYOUT:
            raise InputError("These channels have no such names; choose them from the list.")
        command = SetRecordingLayout(strips=(self.strip,), layout=layout)
        return command.apply(mix)

    def describe(self, mix: Mix) -> str:
        what = "not used" if self.label == UNUSED else self.label
        return f"{strip_of(mix, self.strip).name}: channel {self.channel} is {what}"
