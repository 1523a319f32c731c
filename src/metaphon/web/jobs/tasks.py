"""Work that runs beside the web server."""

import logging
from pathlib import Path

from procrastinate.contrib.django import app

from metaphon.core.errors import InputError
from metaphon.web.jobs.rendering import Interrupted, run
from metaphon.web.mixes.models import Render

log = logging.getLogger(__name__)


@app.task(name="render_mix", queue="renders")
def render_mix(*, render_id: int) -> None:
    """Render a mix to files. Started again from the beginning where a worker died on the way."""
    render = Render.objects.select_related("mix").filter(pk=render_id).first()
    if render is None or not render.is_open:
        return
    try:
        run(render)
    except Interrupted:
        _end(render, Render.Status.CANCELLED)
    except InputError as error:
        _end(render, Render.Status.FAILED, _by_their_names(render, str(error)))
    except Exception:
        _end(render, Render.Status.FAILED, "The render broke off through a fault of the program; it is in the log.")
        log.exception("render %s", render_id)
        raise


def _by_their_names(render: Render, message: str) -> str:
    """Call recordings what people called them, not what storage does."""
    for audio in render.mix.audio_files.all():
        message = message.replace(Path(str(audio.file.name)).name, audio.name)
    return message


def _end(render: Render, status: Render.Status, message: str = "") -> None:
    Render.objects.filter(pk=render.pk).update(status=status, message=message[:500])
