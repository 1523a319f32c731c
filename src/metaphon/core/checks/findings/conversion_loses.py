"""A bus whose channels do not all arrive in the bus it feeds."""

from collections.abc import Iterator

from metaphon.core.checks.channel_losses import losses
from metaphon.core.checks.finding import Finding
from metaphon.core.checks.rule import Rule
from metaphon.core.document.mix import Mix


def _notice(mix: Mix) -> Iterator[Finding]:
    buses = {bus.id: bus for bus in mix.buses}
    for bus in mix.buses:
        yield from losses(bus, 0, buses, mix.fold_down.shares)


RULE = Rule(
    "conversion_loses",
    90,
    "What those channels carry is not heard through this bus.",
    notice=_notice,
)
