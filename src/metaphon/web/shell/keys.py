"""Every key there is, by where it works: the page of keys (?) is drawn from this."""

from typing import NamedTuple


class Keys(NamedTuple):
    """The keys of one place."""

    where: str
    keys: tuple[tuple[str, str], ...]


KEYS = (
    Keys(
        "Everywhere",
        (
            ("?", "This page"),
            ("Ctrl K", "Find an action, a track, a bus or a place by typing"),
            ("Ctrl Z", "Undo"),
            ("Ctrl Shift Z", "Do again"),
            ("Space", "Play or pause"),
            ("M", "Set a marker where the mix stands"),
            ("R", "Remarks"),
            ("W", "Lanes: what moves over time, beneath any workspace"),
            ("Esc", "Close what is open; leave a number as it was"),
        ),
    ),
    Keys(
        "Listening",
        (
            ("L", "Play round and round"),
            ("B", "The other side, while two are compared"),
            ("1 to 6", "Mono, side, left, right, swapped, right inverted"),
            ("7, 8", "Beds only, objects only"),
            ("9", "20 dB softer"),
            ("0", "All of these off"),
            ("N, Shift N", "To the next marker, to the one before"),
            ("+ and -", "Louder and softer by the marked levels"),
            ("Arrows, Page, Home, End", "On the time line: 1 s, 10 s, start, end"),
        ),
    ),
    Keys(
        "A number",
        (
            ("Up, Down", "A step; ten with Shift"),
            ("Enter", "Take what was typed"),
            ("Double-click", "Back to its default"),
        ),
    ),
    Keys(
        "Intake: a clip on the time line",
        (
            ("Left, Right", "Move by 10 ms; by a frame of sound with Alt, by 1 s with Shift"),
            ("[ and ]", "Begin, or end, at the playhead"),
            ("S", "Split at the playhead"),
            ("D", "A copy right after it"),
            ("Up, Down", "Louder or softer by 0.5 dB"),
            ("Delete", "Take it out"),
        ),
    ),
    Keys(
        "Intake: a marker",
        (
            ("Left, Right", "Move by 10 ms; by a frame of sound with Alt, by 1 s with Shift"),
            ("Enter", "Listen from there"),
            ("Delete", "Take it away"),
        ),
    ),
    Keys(
        "Coherence: a pair",
        ((", and .", "Earlier and later by half of what is shown"),),
    ),
    Keys(
        "Coherence: a band of an equaliser",
        (
            ("Arrows", "Its frequency by a 24th of an octave, its gain by 0.5 dB; more with Shift"),
            ("[ and ], wheel", "Broader and sharper"),
            ("S held, Alt and press", "It alone is heard"),
            ("Delete", "Take it out"),
        ),
    ),
    Keys(
        "Flow: the map",
        (
            ("Arrows", "From box to box"),
            ("Enter", "Open"),
            ("X", "Choose, for one action on many"),
            ("M", "Mute"),
            ("F", "Route: then arrows to the aim and Enter"),
        ),
    ),
    Keys(
        "Field",
        (
            ("Arrows", "Move the chosen source by 1 degree; 10 with Shift"),
            ("A", "Choose all objects"),
            ("P", "While it plays, keep dragging as a path"),
            ("D", "Draw a path"),
            ("Tab, Delete", "On a lane: from breakpoint to breakpoint; take one out"),
        ),
    ),
)
