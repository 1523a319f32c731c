"""A recording whose channels do not all arrive in the bus it feeds."""

from collections.abc import Iterator

from metaphon.core.checks.channel_losses import losses
from metaphon.core.checks.finding import Finding
from metaphon.core.checks.rule import Rule
from metaphon.core.checks.sound import Sound
from metaphon.core.document.mix import Mix


def _listen(mix: Mix, sound: Sound) -> Iterator[Finding]:
    buses = {bus.id: bus for bus in mix.buses}
    for track in sound.tracks:
        yield from losses(track, sound.channels_of(track), buses, mix.fold_down.shares)


RULE = Rule(
    "recording_loses",
    110,
    "What those channels carry is not heard through this bus.",
    listen=_listen,
)
