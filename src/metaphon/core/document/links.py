"""Linked reverbs: what is set of one is set of all that carry the same link."""

from typing import Any

from metaphon.core.document.mix import Mix


def kept_alike(before: Mix, after: Mix) -> Mix:
    """A changed mix, its linked reverbs all as the one that has changed; bypass is apart."""
    known = {strip.id: strip for strip in before.strips}
    changed: dict[str, Any] = {}
    for strip in after.strips:
        if strip is known.get(strip.id):
            continue
        held = known[strip.id].chain if strip.id in known else ()
        for one in strip.chain:
            if one.link and one not in held:
                changed.setdefault(one.link, one)
    if not changed:
        return after

    def alike(one: Any) -> Any:
        new = changed.get(one.link)
        if new is None or type(new) is not type(one):
            return one
        return new.model_copy(update={"bypassed": one.bypassed})

    def change(strip: Any) -> Any:
        chain = tuple(map(alike, strip.chain))
        return strip if chain == strip.chain else strip.model_copy(update={"chain": chain})

    return after.with_strips(change)
