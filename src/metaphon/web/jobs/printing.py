"""Prints: strips rendered to new tracks that take their place."""

import tempfile
from pathlib import Path

from django.db import transaction

from metaphon.core.document.mix import Strip
from metaphon.core.edits.command import Command, strip_of
from metaphon.core.edits.registry import Batch
from metaphon.core.edits.structure import AddDouble, AddPrint, next_take
from metaphon.core.engine.offline import Progress
from metaphon.core.engine.printing import print_strip
from metaphon.core.engine.strip_width import doubles_only
from metaphon.web.jobs.models import Print
from metaphon.web.jobs.progress import Interrupted, Teller
from metaphon.web.mixes import journal
from metaphon.web.mixes.models import AudioFile, discard
from metaphon.web.mixes.recordings import store
from metaphon.web.mixes.snapshots import document_of
from metaphon.web.mixes.stored_files import local_path
from metaphon.web.storage import scratch


def run(row: Print) -> None:
    """Print every strip asked for, then bring them all in as one change.

    Raises Interrupted or InputError.
    """
    mix = row.mix
    document = document_of(mix)
    strips = [strip_of(document, strip_id) for strip_id in row.options["strips"]]
    start_s, end_s = row.options["start_s"], row.options["end_s"]
    doubler = row.options.get("doubler")  # its place, where its doubles alone are printed
    if doubler is not None:
        document = doubles_only(document, strips[0].id, doubler)
    Print.objects.filter(pk=row.pk, status=Print.Status.WAITING).update(status=Print.Status.RUNNING)
    made: list[AudioFile] = []
    try:
        with tempfile.TemporaryDirectory(dir=scratch(), prefix=f"print_{row.pk}_") as folder:
            teller = Teller(row)
            for number, strip in enumerate(strips):

                def tell(progress: Progress, number: int = number) -> None:
                    teller(
                        Progress((number + progress.done) / len(strips), progress.speed_x_realtime)
                    )

                path, speed = print_strip(document, strip.id, Path(folder), (start_s, end_s), tell)
                made.append(
                    store(mix, path, f"{strip.name} print {next_take(document, strip)}.wav")
                )
        with transaction.atomic():
            held = Print.objects.select_for_update().filter(pk=row.pk).first()
            if held is None or held.status != Print.Status.RUNNING or row.user is None:
                raise Interrupted
            journal.apply(mix, row.user, _brought_in(row, strips, made))
            held.status, held.progress, held.speed_x_realtime = Print.Status.DONE, 1.0, speed
            held.save()
    except BaseException:
        for audio in made:
            discard(*audio.stored)
            audio.delete()
        raise


def _brought_in(row: Print, strips: list[Strip], made: list[AudioFile]) -> Command:
    """The one change that brings in what was printed."""
    start_s, files = row.options["start_s"], [local_path(audio) for audio in made]
    doubler = row.options.get("doubler")
    if doubler is not None:
        return AddDouble(strip=strips[0].id, place=doubler, file=files[0], start_s=start_s)
    steps = [
        AddPrint(
            strip=strip.id,
            file=file,
            start_s=start_s,
            rest=row.options["rest"],
            recorded=audio.layout,
        )
        for strip, file, audio in zip(strips, files, made, strict=True)
    ]
    words = f"Printed {', '.join(strip.name for strip in strips)}"[:255]
    return Batch(commands=tuple(steps), words=words)
