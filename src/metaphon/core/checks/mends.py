"""One-step mends: each takes a mix and what was found in it, and gives the mix without the fault."""

from collections.abc import Callable
from typing import Any

from metaphon.core.checks.finding import Finding
from metaphon.core.process.basics import Basics
from metaphon.core.process.network_reverb import NetworkReverb
from metaphon.core.process.processor import Processor
from metaphon.core.scene.conversion import without_kept
from metaphon.core.scene.mix import PROGRAMME, Automation, Mix, Send, Strip


def _changed(mix: Mix, strip_id: str, change: Callable[[Strip], dict[str, Any]]) -> Mix:
    old = next(strip for strip in mix.strips if strip.id == strip_id)
    new = old.model_copy(update=change(old))
    if len(new.chain) > len(old.chain):  # one was put in front: what moves those behind it goes with them
        mix = mix.model_copy(update={"automation": tuple(_behind(lane, strip_id) for lane in mix.automation)})
    return mix.with_strips(lambda strip: new if strip.id == strip_id else strip)


def _behind(lane: Automation, strip_id: str) -> Automation:
    head = f"{strip_id}/chain/"
    if not lane.target.startswith(head):
        return lane
    number, rest = lane.target.removeprefix(head).split("/", 1)
    return lane.model_copy(update={"target": f"{head}{int(number) + 1}/{rest}"})


def _with_sends(strip: Strip, bus: str, **values: Any) -> dict[str, Any]:
    sends = (send.model_copy(update=values) if send.bus == bus else send for send in strip.sends)
    return {"sends": tuple(sends)}


def _with_basics(strip: Strip, change: Callable[[Basics], dict[str, Any]]) -> dict[str, Any]:
    """The chain with its first basics changed; one is put in front where there is none."""
    chain: list[Processor] = list(strip.chain)
    place = next((i for i, p in enumerate(chain) if isinstance(p, Basics) and not p.bypassed), None)
    if place is None:
        chain.insert(0, Basics())
        place = 0
    held = chain[place]
    assert isinstance(held, Basics)
    chain[place] = held.model_copy(update=change(held))
    return {"chain": tuple(chain)}


def feed_the_mix(mix: Mix, finding: Finding) -> Mix:
    return _changed(mix, finding.subject, lambda strip: {"output": PROGRAMME})


def place_as_bed(mix: Mix, finding: Finding) -> Mix:
    return _changed(
        mix, finding.subject, lambda strip: {"placement": strip.placement.model_copy(update={"mode": "bed"})}
    )


def put_to_rest(mix: Mix, finding: Finding) -> Mix:
    return _changed(mix, finding.subject, lambda strip: {"resting": True})


def only_through_the_bus(mix: Mix, finding: Finding) -> Mix:
    """Out of the main mix; a plain send becomes the feed, and a send with a level of its own stays.

    A second bus is left.
    """

    def change(strip: Strip) -> dict[str, Any]:
        if strip.output != PROGRAMME:
            return {"sends": tuple(send for send in strip.sends if send.bus != finding.other)}
        if Send(bus=finding.other, level_db=0.0) in strip.sends:
            rest = tuple(send for send in strip.sends if send.bus != finding.other)
            return {"output": finding.other, "sends": rest}
        return {"output": None}

    return _changed(mix, finding.subject, change)


def unmute_the_bus(mix: Mix, finding: Finding) -> Mix:
    return _changed(mix, finding.other, lambda strip: {"muted": False})


def send_after_the_fader(mix: Mix, finding: Finding) -> Mix:
    return _changed(mix, finding.subject, lambda strip: _with_sends(strip, finding.other, tap="post"))


def wet_only(mix: Mix, finding: Finding) -> Mix:
    def change(strip: Strip) -> dict[str, Any]:
        chain = (p.model_copy(update={"wet_only": True}) if isinstance(p, NetworkReverb) else p for p in strip.chain)
        return {"chain": tuple(chain)}

    return _changed(mix, finding.subject, change)


def narrower(mix: Mix, finding: Finding) -> Mix:
    return _changed(
        mix, finding.subject, lambda strip: _with_basics(strip, lambda basics: {"width": basics.width * finding.amount})
    )


def inverted(mix: Mix, finding: Finding) -> Mix:
    return _changed(
        mix,
        finding.subject,
        lambda strip: _with_basics(strip, lambda basics: {"polarity_inverted": not basics.polarity_inverted}),
    )


def other_delayed(mix: Mix, finding: Finding) -> Mix:
    return _changed(
        mix,
        finding.other,
        lambda strip: _with_basics(strip, lambda basics: {"delay_ms": round(basics.delay_ms + finding.amount, 4)}),
    )


def quieter(mix: Mix, finding: Finding) -> Mix:
    return _changed(mix, finding.subject, lambda strip: {"gain_db": round(strip.gain_db - finding.amount, 1)})


def only_the_used_form(mix: Mix, finding: Finding) -> Mix:
    return without_kept(mix, finding.subject)
