"""The spaces whose responses can be chosen: those that ship, one's own, and what others share."""

from dataclasses import dataclass
from pathlib import Path

from django.db.models import Q

from metaphon.core.process.convolution_reverb import ConvolutionReverb
from metaphon.core.spaces.shipped import DISTANCES, MICROPHONES, SPACES
from metaphon.web.mixes.models import SpaceResponse
from metaphon.web.mixes.permissions import User
from metaphon.web.mixes.responses import SHIPPED_RESPONSES
from metaphon.web.mixes.stored_files import name_of

_BY_PARTS = {(one.key, *rest): name for name, (one, *rest) in SHIPPED_RESPONSES.items()}
_BEGINS_AT = ("omnis", "middle")
STARTS_WITH = _BY_PARTS["boat_shed", *_BEGINS_AT]


@dataclass(frozen=True)
class Choice:
    """Something that may be pressed: its title, the response it leads to, whether it is so."""

    title: str
    name: str
    chosen: bool


@dataclass(frozen=True)
class Chooser:
    """Spaces, the microphones in the one that sounds, and their distances."""

    spaces: tuple[Choice, ...]
    microphones: tuple[Choice, ...]
    distances: tuple[Choice, ...]


def responses_of(user: User) -> list[SpaceResponse]:
    """What somebody has brought in or made, and what others share."""
    return list(SpaceResponse.objects.filter(Q(user=user.pk) | Q(shared=True)))


def chooser(reverb: ConvolutionReverb, user: User) -> Chooser:
    """What can be chosen for a reverb, by what it has."""
    name = name_of(reverb.file) if reverb.file else ""
    own = responses_of(user)
    held = next((one for one in own if one.stored_as == name), None)
    if held is None and name and name not in SHIPPED_RESPONSES:
        held = SpaceResponse.objects.filter(file=name).first()  # another member's
        own += [held] if held else []
    ours, microphone, distance = SHIPPED_RESPONSES.get(name, (None, *_BEGINS_AT))
    spaces = [
        Choice(one.room.title, _BY_PARTS[one.key, microphone, distance], one is ours)
        for one in SPACES
    ]
    titles = dict.fromkeys(one.title for one in own)
    for title in titles:
        first = next(one for one in own if one.title == title)
        spaces.append(Choice(title, first.stored_as, bool(held and held.title == title)))
    if ours:
        key = ours.key
        return Chooser(
            tuple(spaces),
            tuple(
                Choice(words, _BY_PARTS[key, kind, distance], kind == microphone)
                for kind, words in MICROPHONES.items()
            ),
            tuple(
                Choice(words.capitalize(), _BY_PARTS[key, microphone, words], words == distance)
                for words in DISTANCES
            ),
        )
    there = [one for one in own if held and one.title == held.title]
    microphones = [
        Choice(one.microphone or Path(one.stored_as).stem, one.stored_as, one == held)
        for one in there
    ]
    return Chooser(tuple(spaces), tuple(microphones), ())
