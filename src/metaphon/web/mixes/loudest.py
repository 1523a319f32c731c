"""Where a strip is loudest: what is measured of it where nobody has said which span."""

import numpy as np

from metaphon.core.checks.sound import Sound
from metaphon.core.document.mix import Mix as Document
from metaphon.core.document.mix import Strip, Track
from metaphon.core.engine.strip_width import fed_by
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.recordings import draw
from metaphon.web.mixes.snapshots import recordings_of
from metaphon.web.mixes.waves import COLUMNS, extremes, loudest_column

SPAN_S = 6.0  # what is measured


def loudest_s(mix: Mix, document: Document, strip: Strip) -> float:
    """Where a track, or the first track that feeds a bus, is loudest for as long as is measured."""
    track = strip if isinstance(strip, Track) else None
    if track is None:
        track = next((one for one in fed_by(document, strip.id).tracks if one.clips), None)
    if track is None or not track.clips:
        return 0.0
    sound, recordings = Sound(document), recordings_of(mix)
    rate_hz = document.sample_rate_hz
    frames = round(max(clip.start_s + (clip.length_s or 600.0) for clip in track.clips) * rate_hz)
    levels = np.abs(extremes(sound, track, "", lambda path: draw(recordings[path]), 0, frames))
    loud = levels.max(axis=0) ** 2
    span = max(round(SPAN_S * rate_hz / frames * COLUMNS), 1)
    return round(loudest_column(loud, span) * frames / rate_hz / COLUMNS, 1)
