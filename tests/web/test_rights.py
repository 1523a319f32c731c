"""Who may do what, tried on every address there is; one that asks for nothing is found here."""

import json
from typing import Any

from django.test import Client

from metaphon.web.mixes.models import Member
from tests.routes import Route, routes
from tests.web.base import WebTest, make_user

# metrics asks for its token by itself
_PUBLIC = {
    "openapi",
    "health",
    "sign_in",
    "sign_in_code",
    "invited",
    "metrics",
    "shared",
    "shared_sound",
    "shared_remark",
    "shared_file",
    "forgotten",
    "reset_password",
}
_BY_TOKEN = {"api_document", "api_edits"}
_OWN = {  # of no mix
    *(
        "mixes",
        "sign_out",
        "create_mix",
        "make_token",
        "forget_token",
        "make_address",
        "try_address",
        "forget_address",
        "helps",
        "account",
        "rename_person",
        "know_places",
        "end_session",
        "offers",
        "answer_offer",
        "set_mail",
    ),
    *("change_password", "begin_second", "confirm_second", "drop_second", "remove_person"),
}
# what those who listen may send: what they keep for themselves, and looking
_LISTENERS = {
    *("duplicate_mix", "put_away", "leave_mix"),
    *("together:add", "together:answer", "together:resolve", "together:remove"),
    "together:decide",
    *("findings:begin_steps", "findings:go_on", "findings:leave_steps"),
    *("listen:keep_preset", "listen:forget_preset", "listen:bring", "listen:forget_file"),
    *("listen:calibrate", "field:keep_delivery", "flow:keep_chain", "intake:dismiss"),
}
_RENAME = json.dumps({"kind": "rename_mix", "title": "Taken over"})


class EveryAddress(WebTest):
    def setUp(self) -> None:
        super().setUp()
        self.strip = self.bring_in("gull.wav")
        self.others = {}
        for name in ("stranger", "listener"):
            self.others[name] = Client()
            self.others[name].force_login(make_user(name))
        listener = make_user("bo")
        Member.objects.create(mix=self.mix, user=listener, role="listener")
        self.others["listener"].force_login(listener)

    def ask(self, client: Client, route: Route, method: str) -> Any:
        address = route.address(
            mix_id=str(self.mix.pk),
            int="1",
            uuid="00000000-0000-0000-0000-000000000000",
            slug="route",
            str=self.strip.ref,
        )
        data = {"command": _RENAME, "title": "Taken over", "name": "mine", "ids": self.strip.ref}
        headers = {"HX-Request": "true", "Tus-Resumable": "1.0.0", "Upload-Length": "9"}
        if method == "PATCH":
            return client.patch(address, b"x", "application/offset+octet-stream", headers=headers)
        send = client.get if method == "GET" else client.post
        return send(address, data, headers=headers)

    def test_nobody_gets_anywhere_without_signing_in(self) -> None:
        nobody = Client()
        for route in routes():
            if route.name in _PUBLIC:
                continue
            for method in ("GET", "POST", "PATCH"):
                answer = self.ask(nobody, route, method)
                refused = answer.status_code in (401, 405) or (
                    answer.status_code == 302 and answer["Location"].startswith("/sign-in?")
                )
                self.assertTrue(refused, (route.name, method, answer.status_code))

    def test_a_mix_is_not_there_for_a_stranger(self) -> None:
        tried = 0
        wrong = []
        for route in routes():
            if "mix_id" not in route.parts or route.name in _BY_TOKEN:
                continue
            for method in ("GET", "POST", "PATCH"):
                status = self.ask(self.others["stranger"], route, method).status_code
                if status not in (404, 405):
                    wrong.append((route.name, method, status))
                tried += status == 404
        self.assertEqual(wrong, [])
        self.assertGreater(tried, 60)

    def test_a_listener_changes_nothing(self) -> None:
        before, changing = self.document(), 0
        wrong = []
        for route in routes():
            if route.name in _PUBLIC | _BY_TOKEN | _OWN | _LISTENERS:
                continue
            if self.ask(self.others["listener"], route, "GET").status_code != 405:
                continue  # it only shows something
            for method in ("POST", "PATCH"):
                status = self.ask(self.others["listener"], route, method).status_code
                if status not in (403, 404, 405):
                    wrong.append((route.name, method, status))
                changing += status == 403
        self.assertEqual(wrong, [])
        self.assertGreater(changing, 15)
        self.assertEqual(self.document(), before)
