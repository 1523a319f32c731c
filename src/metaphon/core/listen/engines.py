"""The processes that listening sessions run in, each forked from one that has loaded everything."""

import multiprocessing
from multiprocessing.forkserver import ensure_running

ENGINES = multiprocessing.get_context("forkserver")
ENGINES.set_forkserver_preload(["metaphon.core.listen.preload"])


def begin_loading() -> None:
    """Start the process that they are forked from; it loads while others do something else."""
    ensure_running()


def wait_for_first_engine() -> None:
    """Wait until an engine begins at once: what they are forked from has compiled its loops."""
    trial = ENGINES.Process(target=int)
    trial.start()
    trial.join()
