"""Runs a command with the database up:  python -m metaphon.local.run COMMAND [ARGUMENT ...]"""

import signal
import subprocess
import sys

from metaphon.local.cluster import ClusterError
from metaphon.local.environment import environment


def main(command: list[str]) -> int:
    """Give the command's own exit status, or 2 where the database cannot run."""
    if command[0] == "python":
        command = [sys.executable, *command[1:]]
    try:
        with environment() as own:
            child = subprocess.Popen(command, env=own.variables, start_new_session=True)
            for number in (signal.SIGINT, signal.SIGTERM):
                signal.signal(number, lambda number, frame: child.send_signal(number))
            return child.wait()
    except ClusterError as error:
        print(error, file=sys.stderr)
        return 2


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
