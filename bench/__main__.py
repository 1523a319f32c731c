"""bin/bench [NAMES]: one line a case, each with what was asked of it."""

import sys

from bench.cases import CASES


def main() -> int:
    wanted = sys.argv[1:] or list(CASES)
    unknown = [name for name in wanted if name not in CASES]
    if unknown:
        print(f"There is no case {unknown[0]}; use {', '.join(CASES)}.", file=sys.stderr)
        return 2
    for name in wanted:
        for line in CASES[name]():
            print(f"{name:<14} {line}", flush=True)
    return 0


sys.exit(main())
