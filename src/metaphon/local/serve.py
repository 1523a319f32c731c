"""Serves the application on this machine.

Database, pages, listening and one worker, until Ctrl-C.
"""

import argparse
import json
import os
import shutil
import signal
import subprocess
import sys
import time
import urllib.request
from collections import deque
from http import HTTPStatus
from types import FrameType
from urllib.error import HTTPError

from metaphon.local.cluster import Cluster, ClusterError, free_port, port_is_free
from metaphon.local.environment import LOCAL, environment
from metaphon.local.servers import LISTENING, PAGES, WORK, begin, command

_FIRST_PORT = 8000
_READY_WITHIN_S = 600.0
_LONG_S = 12.0  # from here on it is said what is waited for
_MOST_ENDS = 10  # of its processes, within so long, before it gives up
_ENDS_WITHIN_S = 30.0


def main() -> int:
    """Give 0 after Ctrl-C, 2 where something keeps it from starting."""
    parser = argparse.ArgumentParser(prog="bin/start", description=__doc__)
    parser.add_argument(
        "--port", type=int, help=f"the port to serve on; from {_FIRST_PORT} the first that is free"
    )
    parser.add_argument(
        "--fresh", action="store_true", help="start over: delete all mixes, recordings and people"
    )
    parser.add_argument("--yes", action="store_true", help="do not ask")
    parser.add_argument(
        "--address",
        help="serve for others: where they reach it through a proxy that speaks TLS, such as "
        "https://mix.example; there is no demo then",
    )
    options = parser.parse_args()
    try:
        if options.fresh and not _start_over(options.yes):
            return 2
        return _serve(_port(options.port), options.address)
    except ClusterError as error:
        print(error, file=sys.stderr)
        return 2


def _start_over(sure: bool) -> bool:
    if not sure:
        try:
            answer = input(
                "This deletes every mix, recording and person here for good. Type yes to go on: "
            )
        except EOFError:
            answer = ""
        if answer.strip().lower() != "yes":
            print("Nothing was deleted.", file=sys.stderr)
            return False
    Cluster(LOCAL).remove()
    shutil.rmtree(LOCAL / "storage", ignore_errors=True)
    return True


def _port(wanted: int | None) -> int:
    if wanted is not None:
        if not port_is_free(wanted):
            raise ClusterError(
                f"Port {wanted} is taken by another program; choose another with --port."
            )
        return wanted
    port = free_port(_FIRST_PORT)
    if port != _FIRST_PORT:
        print(f"Port {_FIRST_PORT} is taken; using {port}.", file=sys.stderr)
    return port


class _Stop(Exception):
    pass


def _on_signal(number: int, frame: FrameType | None) -> None:
    raise _Stop


def _variables(port: int, listen_port: int, address: str | None) -> dict[str, str]:
    """What the processes are told beside where database and storage are."""
    told = {"METAPHON_LISTEN_PORT": str(listen_port)}
    if address:
        os.environ.setdefault("METAPHON_PROXIES", "127.0.0.1")
        return {**told, "METAPHON_DEMO": "false", "METAPHON_ADDRESS": address}
    here = f"http://127.0.0.1:{port},http://localhost:{port}"
    demo = os.environ.get("METAPHON_DEMO", "true")
    return {**told, "METAPHON_DEMO": demo, "METAPHON_ADDRESS": here}


def _serve(port: int, address: str | None) -> int:
    signal.signal(signal.SIGTERM, _on_signal)
    signal.signal(signal.SIGINT, _on_signal)
    children: dict[str, subprocess.Popen[bytes]] = {}
    with environment() as own:
        # a proxy must know where it is; a browser on this machine is told
        listen_port = _port(port + 1) if address else free_port(port + 1)
        variables = {**own.variables, **_variables(port, listen_port, address)}
        commands = {
            "server of the pages": command(PAGES, port),
            "worker": WORK,
            "server for listening": command(LISTENING, listen_port),
        }

        def run(*what: str) -> None:
            done = subprocess.run(
                [sys.executable, "-m", "django", *what], env=variables, check=False
            )
            if done.returncode:
                raise ClusterError(f"{' '.join(what)} failed; see above.")

        def start(name: str) -> None:
            children[name] = begin(commands[name], variables)

        try:
            start("server for listening")  # needs no database yet, and takes the longest
            run("migrate", "--verbosity", "0")
            run("demo")
            start("server of the pages")
            start("worker")
            here = f"http://127.0.0.1:{port}"
            _wait_until_ready(here, children)
            print(f"Metaphon is at {address or here}/  (Ctrl-C ends it)", flush=True)
            ended: deque[float] = deque(maxlen=_MOST_ENDS)
            while True:
                own.keep_database_up()
                for name in [name for name, child in children.items() if child.poll() is not None]:
                    print(f"The {name} ended; starting another.", file=sys.stderr)
                    ended.append(time.monotonic())
                    if len(ended) == _MOST_ENDS and ended[-1] - ended[0] < _ENDS_WITHIN_S:
                        raise ClusterError(f"The {name} ends again and again; see above.")
                    start(name)
                time.sleep(0.5)
        except _Stop:
            print("Stopping", file=sys.stderr)
            return 0
        finally:
            signal.signal(signal.SIGINT, signal.SIG_IGN)
            signal.signal(signal.SIGTERM, signal.SIG_IGN)
            _end(list(children.values()))


def _wait_until_ready(here: str, children: dict[str, subprocess.Popen[bytes]]) -> None:
    began, told = time.monotonic(), False
    while waits := _not_ready(here):
        seconds = time.monotonic() - began
        if seconds > _READY_WITHIN_S or any(one.poll() is not None for one in children.values()):
            raise ClusterError(f"This did not become ready: {', '.join(waits)}; see above.")
        if seconds > _LONG_S and not told:
            told = True
            compiles = waits == ["listening"]
            what = "the sound engine is compiled, once for this version" if compiles else "waiting"
            print(f"Not ready yet: {', '.join(waits)} ({what})", file=sys.stderr)
        time.sleep(0.1)


def _not_ready(here: str) -> list[str]:
    """The parts that are not at work yet."""
    try:
        with urllib.request.urlopen(f"{here}/health", timeout=4):
            return []
    except HTTPError as refused:
        told = json.loads(refused.read()) if refused.code == HTTPStatus.SERVICE_UNAVAILABLE else {}
        return [part for part, works in told.items() if works is False] or ["pages"]
    except OSError:
        return ["pages"]


def _end(children: list[subprocess.Popen[bytes]]) -> None:
    for child in children:
        if child.poll() is None:
            child.terminate()
    for child in children:
        try:
            child.wait(timeout=4)
        except subprocess.TimeoutExpired:
            child.kill()
            child.wait()


if __name__ == "__main__":
    sys.exit(main())
