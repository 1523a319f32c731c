"""Serves the application on this machine: database, one web process, one worker, until Ctrl-C."""

import argparse
import shutil
import signal
import subprocess
import sys
import time
import urllib.error
import urllib.request
from types import FrameType

from metaphon.local.cluster import Cluster, ClusterError, port_is_free
from metaphon.local.environment import LOCAL, environment

_FIRST_PORT = 8000
_READY_WITHIN_S = 60.0


def main() -> int:
    """Give 0 after Ctrl-C, 2 where something keeps it from starting."""
    parser = argparse.ArgumentParser(prog="bin/start", description=__doc__)
    parser.add_argument("--port", type=int, help=f"the port to serve on; from {_FIRST_PORT} the first that is free")
    parser.add_argument("--fresh", action="store_true", help="start over: delete all mixes, recordings and people")
    parser.add_argument("--yes", action="store_true", help="do not ask")
    options = parser.parse_args()
    try:
        if options.fresh and not _start_over(options.yes):
            return 2
        return _serve(_port(options.port))
    except ClusterError as error:
        print(error, file=sys.stderr)
        return 2


def _start_over(sure: bool) -> bool:
    if not sure:
        try:
            answer = input("This deletes every mix, recording and person here for good. Type yes to go on: ")
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
            raise ClusterError(f"Port {wanted} is taken by another program; choose another with --port.")
        return wanted
    port = next((p for p in range(_FIRST_PORT, _FIRST_PORT + 100) if port_is_free(p)), None)
    if port is None:
        raise ClusterError(f"No port from {_FIRST_PORT} on is free; choose one with --port.")
    if port != _FIRST_PORT:
        print(f"Port {_FIRST_PORT} is taken; using {port}.", file=sys.stderr)
    return port


class _Stop(Exception):
    pass


def _on_signal(number: int, frame: FrameType | None) -> None:
    raise _Stop


def _serve(port: int) -> int:
    signal.signal(signal.SIGTERM, _on_signal)
    signal.signal(signal.SIGINT, _on_signal)
    children: list[subprocess.Popen[bytes]] = []
    with environment() as variables:
        variables = {**variables, "METAPHON_DEMO": variables.get("METAPHON_DEMO", "true")}

        def run(*command: str) -> None:
            done = subprocess.run([sys.executable, "-m", *command], env=variables, check=False)
            if done.returncode:
                raise ClusterError(f"{' '.join(command)} failed; see above.")

        def begin(*command: str) -> subprocess.Popen[bytes]:
            # a session of its own, so that Ctrl-C reaches this process alone and the end is orderly
            child = subprocess.Popen([sys.executable, "-m", *command], env=variables, start_new_session=True)
            children.append(child)
            return child

        try:
            run("django", "migrate", "--verbosity", "0")
            run("django", "demo")
            web = begin(
                "uvicorn", "metaphon.web.asgi:application", "--host", "127.0.0.1", "--port", str(port),
                "--log-level", "warning", "--no-access-log", "--lifespan", "off",
            )  # fmt: skip
            worker = begin("django", "work")
            _wait_until_ready(port, web)
            print(f"Metaphon is at http://127.0.0.1:{port}/  (Ctrl-C ends it)", flush=True)
            while web.poll() is None:
                if worker.poll() is not None:
                    print("The worker ended; starting another.", file=sys.stderr)
                    worker = begin("django", "work")
                time.sleep(0.5)
            raise ClusterError("The web server ended; see above.")
        except _Stop:
            print("Stopping", file=sys.stderr)
            return 0
        finally:
            signal.signal(signal.SIGINT, signal.SIG_IGN)
            signal.signal(signal.SIGTERM, signal.SIG_IGN)
            _end(children)


def _wait_until_ready(port: int, web: subprocess.Popen[bytes]) -> None:
    until = time.monotonic() + _READY_WITHIN_S
    while time.monotonic() < until and web.poll() is None:
        try:
            with urllib.request.urlopen(f"http://127.0.0.1:{port}/health", timeout=2):
                return
        except (urllib.error.URLError, OSError):
            time.sleep(0.1)
    raise ClusterError("The web server did not become ready; see above.")


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
