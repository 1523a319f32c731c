"""How soon an installation is back after a part of it was killed."""

import os
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path

from metaphon.local.cluster import Cluster
from tests.kill.installation import Installation

_ROUNDS = 3
_LIBRARIES = "import django, numba, numpy, scipy.signal, scipy.spatial, scipy.stats"


def back() -> Iterator[str]:
    """Pages, database and listening, each killed, against loading the libraries alone."""
    plain_s = statistics.median(_load_libraries() for _ in range(_ROUNDS))
    with tempfile.TemporaryDirectory() as folder:
        here = Installation(Path(folder))
        try:
            here.sign_in()
            lamp = here.mix("The Lamp at Skerrow")

            def opens() -> bool:
                return here.get(f"/mix/{lamp}/flow/?view=table")[0] == 200

            def hears() -> bool:
                return here.hears(lamp)

            for name, kill, works in (
                ("pages", lambda: here.kill("metaphon.web.asgi"), opens),
                ("database", here.kill_database, opens),
                ("listening", lambda: here.kill("metaphon.web.listen.asgi"), hears),
                ("engines", lambda: here.kill("multiprocessing.forkserver"), hears),
            ):
                times = [_seconds_until(here, kill, works) for _ in range(_ROUNDS)]
                took_s = statistics.median(times)
                yield (
                    f"{name} back after {took_s:.1f} s, {took_s / plain_s:.1f} times loading the "
                    "libraries (asked: under 10 s)"
                )
        finally:
            here.end()
            Cluster(Path(folder)).remove()


def _load_libraries() -> float:
    began = time.monotonic()
    subprocess.run([sys.executable, "-c", _LIBRARIES], check=True, env=os.environ)
    return time.monotonic() - began


def _seconds_until(
    here: Installation, kill: Callable[[], None], works: Callable[[], bool]
) -> float:
    assert works()
    began = time.monotonic()
    kill()
    time.sleep(0.2)  # so that what is dying answers no more
    here.until(works, 120.0)
    return time.monotonic() - began
