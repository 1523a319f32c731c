"""Listening through a mix for levels and faults, beside the web server, whenever its sound has
changed.
"""

import hashlib
import logging
from dataclasses import dataclass

from metaphon.core.checks.finding import Finding
from metaphon.core.checks.rules import noticed
from metaphon.core.checks.survey import Heard, survey
from metaphon.core.document.mix import Mix as Document
from metaphon.core.errors import InputError, MachineBusy
from metaphon.core.files.apart import MEMORY_BYTES, TooMuch, work_apart
from metaphon.web.jobs.models import Survey
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.snapshots import document_of

_TELLS = 3  # grows with what a survey tells, so that mixes are listened to anew
_SECONDS = 1800.0
_STANDS_BACK = 9  # of the worker, which stands back from what is heard
log = logging.getLogger(__name__)


def key_of(document: Document) -> str:
    """Tells whether two states of a mix sound alike."""
    silent = {"title", "targets", "delivery", "alternatives", "markers"}
    sounds = document.model_dump_json(exclude=silent)
    return hashlib.sha256(f"{_TELLS} {sounds}".encode()).hexdigest()


def run(mix: Mix) -> None:
    """Listen to the mix as it is now and keep what was found.

    Where that fails, that it was tried.
    """
    document = document_of(mix)
    found = Heard([], {}, [])
    try:
        # apart, and behind a render: a long survey is set aside for whatever else is to be done
        found = work_apart(
            survey, document, limits=(MEMORY_BYTES, _SECONDS), stands_back=_STANDS_BACK
        )
    except MachineBusy:
        return  # asked for again with the next edit, or by whoever looks
    except InputError:
        # nothing to hear yet, or a file is missing: the rules that only look at the mix say so
        pass
    except TooMuch:
        log.exception("survey of mix %s", mix.pk)
    Survey.objects.update_or_create(mix=mix, defaults={"key": key_of(document), **vars(found)})


@dataclass(frozen=True)
class Found:
    """What is found in a mix.

    `listened` tells whether its sound was ever listened to, `fresh` whether as it is now.
    """

    findings: list[Finding]
    listened: bool
    fresh: bool


def findings_of(mix: Mix) -> Found:
    """What is found in a mix, as far as it has been listened to."""
    document = document_of(mix)
    kept = Survey.objects.filter(mix=mix).first()
    here = {strip.id for strip in document.strips if not strip.resting}
    heard = [Finding(**row) for row in kept.findings] if kept else []
    return Found(
        noticed(document) + [finding for finding in heard if finding.subject in here],
        kept is not None,
        (kept is not None and kept.key == key_of(document)) or not here,
    )
