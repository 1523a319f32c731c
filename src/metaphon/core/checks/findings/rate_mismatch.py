"""A recording at another sample rate than the mix."""

from collections.abc import Iterator

from metaphon.core.checks.finding import Finding
from metaphon.core.checks.rule import Rule
from metaphon.core.checks.sound import Sound
from metaphon.core.document.mix import Mix
from metaphon.core.files.audio import probe


def _listen(mix: Mix, sound: Sound) -> Iterator[Finding]:
    for track in mix.tracks:
        for clip in track.clips:
            rate = probe(clip.file).sample_rate_hz
            if rate != mix.sample_rate_hz:
                message = (
                    f"{clip.file.name} is at {rate} Hz, the mix at {mix.sample_rate_hz} "
                    "Hz; it is converted."
                )
                yield Finding("rate_mismatch", "note", track.id, message)


RULE = Rule(
    "rate_mismatch",
    100,
    "A conversion is part of the sound; it should be known.",
    listen=_listen,
)
