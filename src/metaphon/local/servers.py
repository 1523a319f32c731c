"""How the processes that serve are started: pages, listening, worker, side by side on loopback."""

import sys

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
        "127.0.0.1",
        "--port",
        str(port),
        "--log-level",
        log_level,
        "--no-access-log",
        "--lifespan",
        "off",
        "--ws-per-message-deflate",
        "false",
    ]
