"""A mix deleted for good, with all that storage holds of it."""

from metaphon.web.mixes.models import Mix, discard


def delete_mix(mix: Mix) -> None:
    """Delete a mix, its recordings and its results."""
    stored = [f for audio in mix.audio_files.all() for f in audio.stored]
    stored += [row.file for made in mix.renders.all() for row in made.files.all()]
    mix.delete()
    discard(*stored)
