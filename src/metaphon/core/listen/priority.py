"""Sound on its way comes before pages being drawn."""

import os
from contextlib import suppress
from pathlib import Path

_NICE = -8
_AUTOGROUP = Path("/proc/self/autogroup")  # Linux weighs sessions before their processes


def come_first() -> None:
    """Let this process, and its session, come before others, where the user may ask for that."""
    with suppress(OSError):
        os.nice(_NICE)
        _AUTOGROUP.write_text(str(_NICE))
