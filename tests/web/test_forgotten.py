"""A forgotten password: by a link of the operator, or by mail, through a stand-in mail server."""

import io
import re
import socketserver
import threading
from typing import Any

from django.contrib.auth import get_user_model
from django.core.management import call_command
from django.test import Client
from django.test.utils import override_settings

from tests.web.base import WebTest, make_user

_FRESH = "a lamp beyond the pier"


class _Mail(socketserver.StreamRequestHandler):
    """As much of a mail server as takes a message (RFC 5321)."""

    def handle(self) -> None:
        server: Any = self.server
        self.wfile.write(b"220 here\r\n")
        while line := self.rfile.readline():
            word = line.split(b" ")[0].strip().upper()
            if word == b"DATA":
                self.wfile.write(b"354 go on\r\n")
                lines = []
                while (text := self.rfile.readline()) != b".\r\n":
                    lines.append(text.decode())
                server.letters.append("".join(lines))
            self.wfile.write(b"221 over\r\n" if word == b"QUIT" else b"250 ok\r\n")
            if word == b"QUIT":
                return


class Forgotten(WebTest):
    def setUp(self) -> None:
        super().setUp()
        self.bo = make_user("bo")
        self.guest = Client()

    def path_by_the_operator(self) -> str:
        out = io.StringIO()
        call_command("user", "link", "bo", stdout=out)
        found = re.search(r"(/sign-in/reset/\S+)", out.getvalue())
        assert found
        return found[1]

    def test_a_link_sets_another_password_once(self) -> None:
        path = self.path_by_the_operator()
        self.assertContains(self.guest.get(path), "Another password for bo")
        easy = self.guest.post(path, {"fresh": "bo"})
        self.assertEqual(easy.status_code, 422)
        self.assertRedirects(self.guest.post(path, {"fresh": _FRESH}), "/sign-in")
        signed = self.guest.post("/sign-in", {"username": "bo", "password": _FRESH})
        self.assertEqual(signed.status_code, 302)
        for again in (Client().get(path), Client().post(path, {"fresh": "yet another lamp"})):
            self.assertEqual(again.status_code, 410)
        self.bo.refresh_from_db()
        self.assertTrue(self.bo.check_password(_FRESH))

    def test_a_link_is_for_one_account_alone(self) -> None:
        _, _, _, number, token = self.path_by_the_operator().split("/")
        ada = self.path_of("ada")
        for path in (
            f"/sign-in/reset/{number}/{ada[1]}",
            f"/sign-in/reset/{ada[0]}/{token}",
            f"/sign-in/reset/x/{token}",
            f"/sign-in/reset/{number}/x",
            "/sign-in/reset/OTk5OTk5OTk5OTk5OTk5/x",
        ):
            self.assertEqual(self.guest.get(path).status_code, 410, path)

    def path_of(self, name: str) -> list[str]:
        out = io.StringIO()
        call_command("user", "link", name, stdout=out)
        return out.getvalue().strip().split("/")[-2:]

    def test_without_mail_it_says_whom_to_ask(self) -> None:
        page = self.guest.get("/sign-in/forgotten")
        self.assertContains(page, "user link NAME")
        self.assertContains(self.guest.get("/sign-in"), "/sign-in/forgotten")
        page = self.guest.post("/sign-in/forgotten", {"username": "bo"})
        self.assertNotContains(page, "on its way")

    def test_by_mail(self) -> None:
        with socketserver.ThreadingTCPServer(("127.0.0.1", 0), _Mail) as server:
            letters: list[str] = []
            server.letters = letters  # type: ignore[attr-defined]
            threading.Thread(target=server.serve_forever, daemon=True).start()
            host, port = server.server_address[:2]
            with override_settings(
                EMAIL_BACKEND="django.core.mail.backends.smtp.EmailBackend",
                EMAIL_HOST=host,
                EMAIL_PORT=port,
                EMAIL_USE_TLS=False,
            ):
                self.client.force_login(self.bo)
                for address, said in (("bo at home", "no address"), ("bo@house.example", "")):
                    answer = self.client.post(
                        "/account/mail",
                        {"email": address, "password": "long enough word"},
                        headers={"HX-Request": "true"},
                    )
                    self.assertIn(said, self.said(answer) if said else "")
                said = {
                    self.guest.post("/sign-in/forgotten", {"username": name}).context["said"]
                    for name in ("BO", "nobody", "ada")
                }
                self.assertEqual(len(said), 1)  # who there is is not told
            server.shutdown()
        [letter] = letters
        self.assertIn("To: bo@house.example", letter)
        text = letter.replace("=\r\n", "").replace("=3D", "=")
        found = re.search(r"(/sign-in/reset/\S+)", text)
        assert found
        self.assertRedirects(self.guest.post(found[1], {"fresh": _FRESH}), "/sign-in")
        user = get_user_model().objects.get(username="bo")
        self.assertTrue(user.check_password(_FRESH))
