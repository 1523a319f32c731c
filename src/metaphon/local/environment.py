"""The environment that the application's processes are given on one machine."""

import os
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from metaphon.local.cluster import Cluster, secret

ROOT = Path(__file__).resolve().parents[3]
LOCAL = Path(os.environ.get("METAPHON_LOCAL", ROOT / ".local"))  # one of its own an installation


@dataclass(frozen=True)
class Environment:
    """Variables for child processes, and how to start the database anew where it has ended."""

    variables: dict[str, str]
    keep_database_up: Callable[[], None]


@contextmanager
def environment() -> Iterator[Environment]:
    """What child processes are given, with the database up for as long as the block lasts.

    A METAPHON_DATABASE_URL that is set already names a database kept elsewhere; then no cluster is
    started.
    """
    storage = Path(os.environ.get("METAPHON_STORAGE", LOCAL / "storage"))
    (storage / "scratch").mkdir(parents=True, exist_ok=True)
    variables = {
        **os.environ,
        "DJANGO_SETTINGS_MODULE": "metaphon.web.settings",
        "METAPHON_SECRET_KEY": os.environ.get("METAPHON_SECRET_KEY") or secret(LOCAL, "key", 50),
        "METAPHON_STORAGE": str(storage),
        "METAPHON_UPLOADS": str(storage / "scratch"),
    }
    if "METAPHON_DATABASE_URL" in os.environ:
        yield Environment(variables, lambda: None)
        return
    with Cluster(LOCAL) as cluster:
        yield Environment({**variables, "METAPHON_DATABASE_URL": cluster.url}, cluster.keep_up)
