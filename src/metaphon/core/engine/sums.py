"""Whether stems add up to their mix: shown with every handover that has both."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from metaphon.core.document.handover import OWN_WIDTH, FileForm
from metaphon.core.engine.making import Result
from metaphon.core.files.audio import ClipReader

_STRETCH = 1 << 16


@dataclass(frozen=True)
class Sum:
    """Stems of one kind in one target, and what their sum differs by from the mix, in dB of it."""

    kind: str
    target: str
    off_db: float | None  # None where not a sample differs
    said: str


def sums_of(results: Sequence[Result], form: FileForm) -> list[Sum]:
    """Add up the stems of each kind in each target whose mix is there too.

    Where the mix was brought to a loudness it is said what that did to its stems.
    """
    mixes = {one.output.target.name: one for one in results if one.output.is_mix}
    sets: dict[tuple[str, str], list[Result]] = {}
    for one in results:
        if one.output.kind and one.output.target.name in mixes:
            sets.setdefault((one.output.kind, one.output.target.name), []).append(one)
    found = [_added(kind, mixes[target], stems, form) for (kind, target), stems in sets.items()]
    apart = [one for one in results if one.output.stem and not one.output.kind]
    if apart and form.level != "as_it_is":
        said = "Stems as wide as recorded have their level in the mix: none is turned up or down."
        found.append(Sum("tracks", OWN_WIDTH, None, said))
    return found


def _added(kind: str, mix: Result, stems: Sequence[Result], form: FileForm) -> Sum:
    off = whole = 0.0
    readers = [ClipReader(one.path) for one in (mix, *stems)]
    for at in range(0, readers[0].frames, _STRETCH):
        wanted, *parts = (reader.read(at, _STRETCH).astype(np.float64) for reader in readers)
        off += float(np.sum((wanted - sum(parts)) ** 2))
        whole += float(np.sum(wanted**2))
    for reader in readers:
        reader.close()
    off_db = float(10.0 * np.log10(off / whole)) if off > 0.0 and whole > 0.0 else None
    title = mix.output.target.title
    if off_db is None:
        said = f"The stems of {kind} in {title} are the mix to the last bit."
    else:
        said = f"The stems of {kind} in {title} add up to the mix within {off_db:.0f} dB of it."
    if mix.gain_db:
        said += f" All are turned by {mix.gain_db:+.1f} dB, as the mix is."
    if mix.reduction_db:
        said += (
            f" They are turned down with the mix, by up to {mix.reduction_db:.1f} dB."
            if form.stem_dynamics == "shared"
            else " Each is limited by itself, so they need not add up."
        )
    return Sum(kind, mix.output.target.name, off_db, said)
