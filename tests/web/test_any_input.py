"""Whatever is posted, or said over the socket: an answer, never a fault.

The same chances every time, from seeds; what failed once is found again by its number.
"""

import random
import sys
import traceback
from typing import Any
from unittest.mock import patch

from django.core.signals import got_request_exception
from django.db import transaction

from metaphon.core.listen.monitor import LoudspeakerSet, Monitor
from metaphon.web.mixes.models import Mix
from tests.core.test_edits import ALL
from tests.nasty import as_json, spoiled, text
from tests.routes import Route, routes
from tests.runner import long_test
from tests.web.test_commands import CommandTest

_POSTS = 10_000
_QUICK = 400
# what these fields hold where nothing is wrong with them
_SHAPED: dict[str, list[Any]] = {
    "command": ALL,
    "monitor": [Monitor().model_dump(mode="json")],
    "loudspeakers": [LoudspeakerSet().model_dump(mode="json")],
    "binaural": [Monitor().binaural.model_dump(mode="json")],
    "correction": [{"response": "open_pair", "target": None, "amount": 1.0}],
}
# after these there is nothing left to try, and this one says what is not at work
_LEAVE = {"sign_out", "remove_mix", "sign_in", "health"}
_ROUTES = [route for route in routes() if route.name not in _LEAVE]


class Posts(CommandTest):
    def send(self, dice: random.Random) -> tuple[str, dict[str, str], int]:
        """Send something to somewhere; gives where, what, and the status."""
        data: dict[str, str] = {}
        if dice.random() < 0.4:
            address = self.url(dice.choice(("flow:edit", "field:edit", "intake:edit")))
            data["command"] = as_json(dice, spoiled(dice, self.command(dice.choice(ALL))))
        else:
            route = dice.choice(_ROUTES)
            address = self._address(dice, route)
            for name in dice.sample(route.fields, dice.randint(0, len(route.fields))):
                shaped = name in _SHAPED and dice.random() < 0.5
                sent = as_json(dice, spoiled(dice, dice.choice(_SHAPED[name]))) if shaped else ""
                data[name] = sent or text(dice)
        headers = {"HX-Request": "true", "X-Seen-Revision": dice.choice(("", "²", "3", "-1"))}
        method = self.client.get if dice.random() < 0.25 else self.client.post
        with transaction.atomic():  # what the database refuses ends with the request
            answer = method(address, data, headers=headers)
        return address, data, answer.status_code

    def _address(self, dice: random.Random, route: Route) -> str:
        return route.address(
            mix_id=str(self.mix.pk),
            int=dice.choice(("0", "1", "3", "2147483648", "9" * 19, "9" * 5000)),
            uuid="00000000-0000-0000-0000-000000000000",
            slug="route",
            str=dice.choice(("gull", "room", "none", "²", "a%00b", "..", "x" * 3000)),
        )

    def many(self, seeds: range) -> None:
        self.client.raise_request_exception = False
        faults: list[object] = []
        raised: list[str] = []
        known: set[str] = set()  # by what was raised; one of each is enough to go on with

        def keep(sender: object, **rest: object) -> None:
            raised.append("".join(traceback.format_exception(sys.exception())[-3:]))

        got_request_exception.connect(keep)
        self.addCleanup(got_request_exception.disconnect, keep)
        for seed in seeds:
            address, data, status = self.send(random.Random(seed))
            if status >= 500 and raised[-1] not in known:
                known.add(raised[-1])
                shown = {name: value[:200] for name, value in data.items()}
                faults += [f"seed {seed}", address[:120], shown, *raised[-1:]]
            if not Mix.objects.filter(pk=self.mix.pk, members__user=self.user).exists():
                self.fail(f"{seed}: {address} took the mix away")
        self.assertFalse(faults, f"{len(known)} faults\n" + "\n".join(map(str, faults[:40])))

    def test_some_hundred_posts_are_answered(self) -> None:
        with patch("django.core.handlers.exception.log_response"):
            self.many(range(_QUICK))

    @long_test
    def test_ten_thousand_posts_are_answered(self) -> None:
        with patch("django.core.handlers.exception.log_response"):
            self.many(range(_QUICK, _QUICK + _POSTS))
