"""What nobody would send on purpose, made by chance from a seed."""

import copy
import json
import random
from typing import Any

TEXTS = (
    "",
    " ",
    "²",
    "٣",
    "-1",
    "0.5",
    "1e308",
    "-1e308",
    "1e-320",
    "NaN",
    "Infinity",
    "null",
    "5",
    "[]",
    "{}",
    '{"kind": 5}',
    "true",
    "9" * 5000,
    "a\0b",
    "\0",
    "[" * 4000,
    '{"a":' * 4000,
    "é" * 400,
    "\U0001f3ba" * 130,
    "\u202e\u0301\ufeff",
    "<script>alert(1)</script>",
    "'; drop table x; --",
    "../../etc/passwd",
    "gull,gull,,gull",
    "99:99:99.99999",
    "-00:00:01",
    "own:²",
    "own:99999999999999999999",
    "revision -1",
    "render 0",
    "reference x",
    "programme",
    "placement/azimuth_deg",
    "chain/99999999999/bands/-1/gain_db",
    "x" * 100_000,
)
VALUES: tuple[Any, ...] = (
    None,
    True,
    0,
    -1,
    2**31,
    2**63,
    10**400,
    1e308,
    -1e308,
    5e-324,
    float("nan"),
    float("inf"),
    [],
    {},
    [[]],
    [None],
    {"kind": "basics"},
    *TEXTS,
)


def text(dice: random.Random) -> str:
    return dice.choice(TEXTS)


def spoiled(dice: random.Random, data: Any) -> Any:
    """The same data with one to three places in it changed, taken away or added."""
    data = copy.deepcopy(data)
    for _ in range(dice.randint(1, 3)):
        places = list(_places(data))
        if not places:
            return copy.deepcopy(dice.choice(VALUES))
        holder, key = dice.choice(places)
        do = dice.random()
        if do < 0.15 and isinstance(holder, dict):
            del holder[key]
        elif do < 0.25 and isinstance(holder, dict):
            holder[text(dice)[:200]] = copy.deepcopy(dice.choice(VALUES))
        elif do < 0.3 and isinstance(holder, list):
            holder.extend(holder[:1] * 50)
        else:
            holder[key] = copy.deepcopy(dice.choice(VALUES))
    return data


def _places(data: Any) -> Any:
    items = data.items() if isinstance(data, dict) else enumerate(data)
    if isinstance(data, dict | list):
        for key, value in list(items):
            yield data, key
            if isinstance(value, dict | list):
                yield from _places(value)


def as_json(dice: random.Random, data: Any) -> str:
    """JSON text of data, now and then broken."""
    told = json.dumps(data, ensure_ascii=dice.random() < 0.5)
    if dice.random() < 0.1:
        at = dice.randrange(len(told) + 1)
        told = told[:at] + dice.choice(("", "\0", "}", "²", '"')) + told[at + 1 :]
    return told


def damaged(dice: random.Random, data: bytes) -> bytes:
    """A file with bits turned, a part cut out, doubled, overwritten, or its end missing."""
    out = bytearray(data)
    for _ in range(dice.randint(1, 6)):
        if not out:
            break
        at = dice.randrange(len(out)) if dice.random() < 0.5 else dice.randrange(min(len(out), 200))
        do = dice.random()
        if do < 0.4:
            out[at] ^= 1 << dice.randrange(8)
        elif do < 0.6:
            out[at : at + 4] = dice.choice(
                (b"\xff" * 4, b"\0" * 4, b"\x7f\xff\xff\xff", b"\x80\0\0\0")
            )
        elif do < 0.7:
            del out[at:]
        elif do < 0.85:
            del out[at : at + dice.randint(1, 64)]
        else:
            out[at:at] = out[at : at + dice.randint(1, 64)] * dice.randint(1, 20)
    return bytes(out)
