"""What a rendered file says of itself: when it begins, how loud it is, what its channels are."""

from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

from metaphon.core.adm.model import Loudness
from metaphon.core.adm.writing import chna, to_xml
from metaphon.core.document.handover import FileForm
from metaphon.core.engine.finishing import Outcome
from metaphon.core.engine.plan import Plan
from metaphon.core.engine.render import Output
from metaphon.core.files.broadcast_wave import channel_names, extension
from metaphon.core.files.channel_labels import mask_of, set_flac_mask
from metaphon.core.files.cues import Cue, cue_chunks
from metaphon.core.files.wave_chunks import add_chunks, set_mask

_TWO_EARS = 0x3  # left and right
# in the order of a chunk bext
_SAID = (
    "integrated_lufs",
    "loudness_range_lu",
    "true_peak_dbtp",
    "max_momentary_lufs",
    "max_short_term_lufs",
)


def describe(
    path: Path, output: Output, made: Outcome, plan: Plan, form: FileForm, first: int
) -> None:
    """Say in a WAVE file when it begins, how loud it is, what its channels are, where markers lie.

    Not when it was made: the same state rendered again gives the same bytes.
    """
    mask, names = 0, output.target.channel_labels
    if output.target.name == "binaural":
        mask = _TWO_EARS
    elif output.target.layout and not output.contents:
        mask, order = mask_of(output.target.layout)
        names = tuple(names[channel] for channel in order)
    if path.suffix == ".flac":
        set_flac_mask(path, mask)
    if path.suffix != ".wav":
        return
    set_mask(path, mask)
    rate_hz = form.rate_hz or plan.rate_hz
    bits = 32 if form.bits == "32f" else int(form.bits)
    part = f", stem {output.stem}" if output.stem else ""
    part = f", {output.alternative.name}" if output.alternative else part
    begins = round((first / plan.rate_hz - form.lead_s) * rate_hz)
    history = f"A=PCM,F={rate_hz},W={bits},T={output.target.title}"
    told = [getattr(made.figures, name) for name in _SAID]
    content = {
        b"bext": extension(
            f"{plan.title}{part}, {output.target.title}",
            begins + round(plan.starts_s * rate_hz),
            history,
            told,
        ),
        b"iXML": channel_names(plan.title, names),
    }
    if output.contents:
        held = output.contents.definition
        programmes = tuple(
            replace(one, loudness=Loudness(**{name: getattr(figures, name) for name in _SAID}))
            for one, figures in zip(held.programmes, (made.figures, *made.others), strict=True)
        )
        definition = replace(held, programmes=programmes)
        content[b"axml"] = to_xml(definition, rate_hz, bits).encode()
        content[b"chna"] = chna(definition)
    add_chunks(path, {**content, **cue_chunks(list(_cues(made, plan, rate_hz, begins)))})


def _cues(made: Outcome, plan: Plan, rate_hz: int, begins: int) -> Iterator[Cue]:
    """The markers of a mix that lie within a file."""
    for marker in plan.markers:
        frame = round(marker.at_s * rate_hz) - begins
        if 0 <= frame < made.figures.duration_s * rate_hz:
            yield Cue(frame, marker.name)
