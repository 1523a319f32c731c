"""What the channels of a recording are: a layout by its name, or a loudspeaker for each channel.

A channel that is not used is a dash.
"""

from functools import lru_cache
from typing import NamedTuple

from metaphon.core.errors import InputError
from metaphon.core.spatial.layouts import LAYOUTS, LOUDSPEAKERS, Layout, own_layout

LONGEST_LAYOUT = 400  # letters, all labels and what parts them
UNUSED = "-"


class RecordedAs(NamedTuple):
    """A layout, and for each of its channels the channel of the recording that holds it.

    `recorded` is how many channels the recording has, used or not.
    """

    layout: Layout
    order: tuple[int, ...]
    recorded: int

    @property
    def is_in_order(self) -> bool:
        """Whether the recording has just these channels in the order of the layout."""
        return self.order == tuple(range(self.recorded))


@lru_cache(maxsize=1024)
def recorded_as(text: str) -> RecordedAs:
    """Read what the channels of a recording are.

    Parameters
    ----------
    text
        The name of a layout, as 4+5+0, or the label of each channel in the order of the recording,
        as `M+030 M-030 M+000 LFE1 M+135 M-135 M+090 M-090`, and `-` for one that is not used.

    Returns
    -------
        The layout of just these loudspeakers, wherever there is one; else one of their own.

    Raises
    ------
    InputError
        For a layout or label that is not known, or one that is used twice.

    Examples
    --------
    >>> found = recorded_as("M+030 M-030 M+000 LFE1 M+135 M-135 M+090 M-090")
    >>> found.layout.name, found.order
    ('0+7+0', (0, 1, 2, 3, 6, 7, 4, 5))
    >>> found = recorded_as("- M+000 -")
    >>> found.layout.name, found.order, found.recorded
    ('0+1+0', (1,), 3)
    """
    if text in LAYOUTS:
        count = LAYOUTS[text].channels
        return RecordedAs(LAYOUTS[text], tuple(range(count)), count)
    channels = text.split()
    used = [place for place, label in enumerate(channels) if label != UNUSED]
    labels = [channels[place] for place in used]
    for label in labels:
        if label not in LOUDSPEAKERS:
            raise InputError(
                f"{label} is no loudspeaker; name each channel by a label such as M+030 or LFE1, "
                f"or give a layout: {', '.join(LAYOUTS)}."
            )
        if labels.count(label) > 1:
            raise InputError(f"{label} is there twice; every channel is another loudspeaker.")
    if not labels:
        raise InputError("Name the channels, or give a layout.")
    for layout in LAYOUTS.values():
        if set(layout.labels) == set(labels):
            order = tuple(used[labels.index(label)] for label in layout.labels)
            return RecordedAs(layout, order, len(channels))
    rows = ("{} {} {}".format(label, *LOUDSPEAKERS[label]) for label in labels)
    own = own_layout(f"{len(labels)} channels", "\n".join(rows))
    return RecordedAs(own, tuple(used), len(channels))


def recorded_text(text: str) -> str:
    """The text of a recording's layout as it is kept; empty stays. Raises InputError as above."""
    plain = " ".join(text.split())
    if plain:
        recorded_as(plain)
    return plain


def layouts_of(channels: int) -> list[Layout]:
    """The layouts of so many channels."""
    return [layout for layout in LAYOUTS.values() if layout.channels == channels]
