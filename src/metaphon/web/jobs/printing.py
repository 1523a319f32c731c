"""Prints: strips rendered to new tracks that take their place."""

import tempfile
from pathlib import Path

from django.conf import settings
from django.db import transaction

from metaphon.core.engine.offline import Progress
from metaphon.core.engine.printing import print_strip
from metaphon.web.intake.recordings import free_ref, store
from metaphon.web.jobs.progress import Interrupted, Teller
from metaphon.web.mixes import journal
from metaphon.web.mixes.assemble import scene_of
from metaphon.web.mixes.models import AudioFile, Clip, Mix, Placement, Print, Send, Strip, discard


def run(row: Print) -> None:
    """Print every strip asked for, then bring them all in as one change. Raises Interrupted or InputError."""
    mix = row.mix
    document = scene_of(mix)
    strips = list(mix.strips.filter(pk__in=row.options["ids"]))
    start_s, end_s = row.options["start_s"], row.options["end_s"]
    scratch = Path(settings.MEDIA_ROOT) / "scratch"
    scratch.mkdir(parents=True, exist_ok=True)
    Print.objects.filter(pk=row.pk, status=Print.Status.WAITING).update(status=Print.Status.RUNNING)
    made: list[tuple[Strip, AudioFile]] = []
    try:
        with tempfile.TemporaryDirectory(dir=scratch, prefix=f"print_{row.pk}_") as folder:
            teller = Teller(row)
            for number, strip in enumerate(strips):

                def tell(progress: Progress, number: int = number) -> None:
                    teller(Progress((number + progress.done) / len(strips), progress.speed_x_realtime))

                path, speed = print_strip(document, strip.ref, Path(folder), (start_s, end_s), tell)
                made.append((strip, store(mix, path, f"{strip.name} print {_next_take(strip)}.wav")))
        with transaction.atomic():
            still = Print.objects.select_for_update().filter(pk=row.pk).first()
            if still is None or still.status != Print.Status.RUNNING or row.user is None:
                raise Interrupted
            with journal.edit(mix, row.user, f"Printed {', '.join(strip.name for strip in strips)}"[:255]):
                for strip, audio in made:
                    _bring_in(mix, strip, audio, start_s, row.options["rest"])
            still.status, still.progress, still.speed_x_realtime = Print.Status.DONE, 1.0, speed
            still.save()
    except BaseException:
        for _, audio in made:
            discard(audio.file)
            audio.delete()
        raise


def original_of(strip: Strip) -> Strip:
    """What a strip was printed of; itself where it is no print."""
    return strip.print_of or strip


def _next_take(strip: Strip) -> int:
    return max([0, *original_of(strip).prints.values_list("take", flat=True)]) + 1


def _bring_in(mix: Mix, strip: Strip, audio: AudioFile, start_s: float, rest: bool) -> None:
    """A new track with the strip's sends, feed, placement, automation and group; the strip goes to rest."""
    strip.refresh_from_db()
    take = _next_take(strip)
    name = f"{original_of(strip).name[:100]} print {take}"
    copy = Strip.objects.create(
        mix=mix, kind=Strip.Kind.TRACK, ref=free_ref(mix, name, "track"), name=name, position=strip.position,
        muted=strip.muted, soloed=strip.soloed, solo_safe=strip.solo_safe, group=strip.group, gain_db=strip.gain_db,
        to_programme=strip.to_programme, output_bus=strip.output_bus, print_of=original_of(strip), take=take,
    )  # fmt: skip
    place = Placement.objects.get(strip=strip)
    place.pk, place.strip = None, copy
    place._state.adding = True
    place.save()
    Clip.objects.create(track=copy, audio=audio, start_s=start_s)
    for send in strip.sends.all():
        Send.objects.create(
            source=copy, bus=send.bus, level_db=send.level_db, tap=send.tap if send.tap != "strip" else "pre",
            muted=send.muted, azimuth_deg=send.azimuth_deg,
        )  # fmt: skip
    for lane in mix.automation.filter(target__startswith=f"{strip.ref}/"):
        mix.automation.create(target=f"{copy.ref}/{lane.target.split('/', 1)[1]}", points=lane.points)
    if rest:
        Strip.objects.filter(pk=strip.pk).update(resting=True, soloed=False)
