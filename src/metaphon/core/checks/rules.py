"""All rules, found in `findings`, in the order they are told.

What they say of a mix, and the mend of a finding.
"""

import os
from concurrent.futures import ThreadPoolExecutor
from importlib import import_module
from pkgutil import iter_modules

from metaphon.core.checks import findings
from metaphon.core.checks.finding import Finding
from metaphon.core.checks.rule import Rule
from metaphon.core.checks.sound import Sound
from metaphon.core.document.mix import Mix
from metaphon.core.edits.command import Command
from metaphon.core.engine.levels import Level
from metaphon.core.errors import InputError


def _find() -> dict[str, Rule]:
    modules = (
        import_module(f"{findings.__name__}.{module.name}")
        for module in iter_modules(findings.__path__)
    )
    found: list[Rule] = sorted((module.RULE for module in modules), key=lambda rule: rule.order)
    return {rule.name: rule for rule in found}


RULES: dict[str, Rule] = _find()


def noticed(mix: Mix) -> list[Finding]:
    """What the rules say that need no sound; quick."""
    return [finding for rule in RULES.values() if rule.notice for finding in rule.notice(mix)]


def listened(mix: Mix, sound: Sound) -> list[Finding]:
    """What the rules say that listen, several at a time.

    Raises InputError where a recording is missing or cannot be read.
    """
    listening = [rule.listen for rule in RULES.values() if rule.listen]
    with ThreadPoolExecutor(os.cpu_count() or 2, "rules") as pool:
        found = list(pool.map(lambda listen: list(listen(mix, sound)), listening))
    return [finding for of_rule in found for finding in of_rule]


def check(mix: Mix, known: dict[str, Level] | None = None) -> list[Finding]:
    """Everything the rules notice; `known` are levels of strips that were measured already.

    Raises InputError where a recording is missing or cannot be read.
    """
    return noticed(mix) + listened(mix, Sound(mix, known))


def mend(mix: Mix, finding: Finding, way: int = 0) -> Command:
    """The command that takes this finding's fault away, by one of the ways its rule knows.

    Raises InputError where there is no such way.
    """
    mends = RULES[finding.rule].mends
    if not 0 <= way < len(mends):
        raise InputError("There is no single step that mends this; change it by hand.")
    return mends[way].command(mix, finding)
