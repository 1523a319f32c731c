"""How the processes that serve are started: pages, listening, worker, side by side on loopback.

One of them alone, on a machine of several:  python -m metaphon.local.servers pages|listening PORT
"""

import ctypes
import os
import signal
import subprocess
import sys
from collections.abc import Sequence

PAGES = "metaphon.web.asgi:application"
LISTENING = "metaphon.web.listen.asgi:application"
WORK = [sys.executable, "-m", "django", "work"]


def command(application: str, port: int, log_level: str = "warning") -> list[str]:
    """The command line of a server. Sound hardly gets smaller when it is packed, so it is not."""
    return [
        sys.executable,
        "-m",
        "uvicorn",
        application,
        "--host",
        os.environ.get("METAPHON_BIND", "127.0.0.1"),
        "--port",
        str(port),
        "--log-level",
        log_level,
        "--no-access-log",
        "--lifespan",
        "off",
        "--ws-per-message-deflate",
        "false",
        *_proxies(),
    ]


def _proxies() -> list[str]:
    """Who may say where a request comes from: proxies that are named, or nobody."""
    named = os.environ.get("METAPHON_PROXIES", "")
    return ["--forwarded-allow-ips", named] if named else ["--no-proxy-headers"]


_DEATH_SIGNAL = 1  # PR_SET_PDEATHSIG of prctl(2)
_libc = ctypes.CDLL(None)


def begin(arguments: Sequence[str], variables: dict[str, str]) -> subprocess.Popen[bytes]:
    """Start one of the processes; it ends with the one that started it, however that ends.

    In a session of its own, so that Ctrl-C reaches that one alone and the end is orderly.
    """
    return subprocess.Popen(
        arguments,
        env=variables,
        start_new_session=True,
        preexec_fn=lambda: _libc.prctl(_DEATH_SIGNAL, signal.SIGTERM),
    )


if __name__ == "__main__":
    served = {"pages": PAGES, "listening": LISTENING}
    arguments = command(served[sys.argv[1]], int(sys.argv[2]))
    os.execv(arguments[0], arguments)
