"""People: let in by link, with a password and a second factor of their own, and leaving."""

import io
import re
from base64 import b32decode
from datetime import timedelta
from typing import Any
from unittest.mock import patch

from django.contrib.auth import get_user_model
from django.core.management import CommandError, call_command
from django.test import Client
from django.utils.timezone import now
from django_otp.oath import totp

from metaphon.web.mixes.models import Member, Mix
from metaphon.web.people.models import Authenticator, Invitation, SpareCodes
from tests.sounds import noise
from tests.web.base import WebTest, make_mix, make_user, stored_files

_PASSWORD = "long enough word"


class Invited(WebTest):
    def link(self, role: str = "editor", days: str = "7") -> str:
        page = self.client.post(self.url("invite"), {"role": role, "days": days})
        found = re.search(r'value="http://testserver(/invited/[^"]+)"', page.content.decode())
        assert found, page.content.decode()
        return found[1]

    def role_of(self, name: str) -> str:
        return Member.objects.get(mix=self.mix, user__username=name).role

    def test_who_has_no_account_makes_one_and_is_in(self) -> None:
        address, guest = self.link("listener"), Client()
        self.assertContains(guest.get(address), "Pier")
        answer = guest.post(address, {"username": "bo", "password": _PASSWORD})
        self.assertRedirects(answer, f"/mix/{self.mix.pk}/", fetch_redirect_response=False)
        self.assertEqual(self.role_of("bo"), "listener")
        self.assertEqual(guest.get(f"/mix/{self.mix.pk}/flow/").status_code, 200)
        self.assertContains(Client().get(address), "over or was used", status_code=410)

    def test_who_has_one_joins_and_loses_nothing(self) -> None:
        bo = make_user("bo")
        guest = Client()
        guest.force_login(bo)
        self.assertContains(guest.get(self.link()), "Join as bo")
        guest.post(self.link("editor"))
        self.assertEqual(self.role_of("bo"), "editor")
        guest.post(self.link("listener"))
        self.assertEqual(self.role_of("bo"), "editor")

    def test_what_cannot_be_is_one_sentence_and_the_link_still_works(self) -> None:
        address, guest = self.link(), Client()
        for given, said in (
            ({"username": "ada", "password": _PASSWORD}, "signs in as ada already"),
            ({"username": "two words", "password": _PASSWORD}, "letters, digits and"),
            ({"username": "bo", "password": "short"}, "too short"),
        ):
            page = guest.post(address, given)
            self.assertContains(page, said, status_code=422)
            self.assertContains(page, f'value="{given["username"]}"', status_code=422)
        self.assertFalse(get_user_model().objects.filter(username="bo").exists())
        self.assertEqual(
            guest.post(address, {"username": "bo", "password": _PASSWORD}).status_code, 302
        )

    def test_it_ends_and_is_taken_back(self) -> None:
        late, back = self.link(), self.link()
        first, second = Invitation.objects.order_by("pk")
        Invitation.objects.filter(pk=first.pk).update(ends_at=now() - timedelta(seconds=1))
        self.client.post(self.url("revoke_invitation", second.pk))
        for address in (late, back, "/invited/guessed"):
            page = Client().post(address, {"username": "bo", "password": _PASSWORD})
            self.assertEqual(page.status_code, 410)
        self.assertEqual(Member.objects.filter(mix=self.mix).count(), 1)

    def test_only_owners_invite(self) -> None:
        editor = make_user("bo")
        Member.objects.create(mix=self.mix, user=editor, role="editor")
        guest = Client()
        guest.force_login(editor)
        answer = guest.post(self.url("invite"), {"role": "owner", "days": "7"})
        self.assertEqual((answer.status_code, Invitation.objects.count()), (403, 0))


class OwnAccount(WebTest):
    def ask(self, name: str, /, **data: str) -> Any:
        return self.client.post(f"/account/{name}", data, headers={"HX-Request": "true"})

    def set_up(self, **also: str) -> Authenticator:
        page = self.ask("second", password=_PASSWORD, **also).content.decode()
        device = Authenticator.objects.get(user=self.user, confirmed=False)
        shown = re.search(r'<code class="fig">([A-Z2-7 ]+)</code>', page)
        assert shown, page
        # RFC 4648: the letters that an authenticator is given are the key
        letters = shown[1].replace(" ", "")
        self.assertEqual(letters, device.secret_base32)
        self.assertEqual(len(b32decode(letters)), 20)
        self.assertIn("<svg", page)
        return device

    def code(self, device: Authenticator, ahead: int = 0) -> str:
        """What an authenticator shows (RFC 6238)."""
        return f"{totp(b32decode(device.secret_base32), drift=ahead):06d}"

    def sign_in(self) -> Client:
        guest = Client()
        guest.post("/sign-in", {"username": "ada", "password": _PASSWORD})
        return guest

    def test_a_second_factor_is_asked_for_and_spare_codes_work_once(self) -> None:
        device = self.set_up()
        self.assertContains(self.ask("second/confirm", code="000000"), "not right now")
        self.assertEqual(self.sign_in().get("/").status_code, 200)  # not on yet
        self.clear_throttle()
        page = self.ask("second/confirm", code=self.code(device)).content.decode()
        spare = re.findall(r"<li>([a-z2-7]+)</li>", page)
        self.assertEqual(len(spare), 10)
        guest = self.sign_in()
        self.assertEqual(guest.get("/").status_code, 302)  # the password alone is not enough
        self.assertContains(guest.post("/sign-in/code", {"code": "123"}), "not right now")
        self.clear_throttle()
        self.assertEqual(
            guest.post("/sign-in/code", {"code": self.code(device, 1)}).status_code, 302
        )
        self.assertEqual(guest.get("/").status_code, 200)
        for expected in (200, 302):
            other = self.sign_in()
            other.post("/sign-in/code", {"code": spare[0]})
            self.assertEqual(other.get("/").status_code, expected)
            self.clear_throttle()
        self.assertContains(self.client.get("/account"), "9 spare codes")
        self.assertIn("not right", self.said(self.ask("second/drop", password="wrong")))
        self.assertIn(
            "This code is not right", self.said(self.ask("second/drop", password=_PASSWORD))
        )
        self.clear_throttle()
        self.ask("second/drop", password=_PASSWORD, code=spare[1])
        self.assertEqual(self.sign_in().get("/").status_code, 200)

    def clear_throttle(self) -> None:
        fresh = {"throttling_failure_count": 0, "throttling_failure_timestamp": None}
        Authenticator.objects.update(**fresh)
        SpareCodes.objects.update(**fresh)

    def test_the_code_is_asked_for_soon_after_the_password_alone(self) -> None:
        device = self.set_up()
        self.ask("second/confirm", code=self.code(device))
        self.assertRedirects(Client().get("/sign-in/code"), "/sign-in")
        guest = self.sign_in()
        with patch("metaphon.web.people.signing_in.time.time", return_value=9e9):
            answer = guest.post("/sign-in/code", {"code": self.code(device, 1)})
        self.assertRedirects(answer, "/sign-in")

    def test_the_name_shown_and_the_password(self) -> None:
        self.ask("name", name="Ada of the pier")
        self.assertContains(self.client.get("/"), "Ada of the pier")
        other = self.sign_in()
        self.assertIn("not right", self.said(self.ask("password", password="x", fresh="y")))
        answer = self.ask("password", password=_PASSWORD, fresh="short")
        self.assertIn("too short", self.said(answer))
        self.ask("password", password=_PASSWORD, fresh="another long word")
        self.assertEqual(self.client.get("/").status_code, 200)
        self.assertEqual(other.get("/").status_code, 302)  # signed out elsewhere

    def test_leaving_takes_what_is_ones_own_alone(self) -> None:
        bo = make_user("bo")
        theirs = make_mix(bo, "Theirs")
        Member.objects.create(mix=theirs, user=self.user, role="editor")
        Member.objects.create(mix=self.mix, user=bo, role="editor")
        self.assertIn("alone own", self.said(self.ask("remove", password=_PASSWORD)))
        self.bring_in("a.wav", noise(1, 0.1))
        Member.objects.filter(mix=self.mix, user=bo).delete()
        answer = self.ask("remove", password=_PASSWORD)
        self.assertEqual(answer["HX-Redirect"], "/sign-in")
        self.assertEqual(list(Mix.objects.values_list("title", flat=True)), ["Theirs"])
        self.assertFalse(get_user_model().objects.filter(username="ada").exists())
        own = f"mixes/{self.mix.pk}/"
        self.assertEqual([path for path in stored_files() if own in str(path)], [])

    def test_leaving_a_mix(self) -> None:
        self.assertEqual(self.client.post(self.url("leave_mix")).status_code, 422)
        Member.objects.create(mix=self.mix, user=make_user("bo"), role="owner")
        self.client.post(self.url("leave_mix"))
        self.assertEqual(self.client.get(self.url("flow:show")).status_code, 404)


class ForTheOperator(WebTest):
    def run_user(self, *arguments: str, typed: str = "") -> str:
        out = io.StringIO()
        with patch("sys.stdin", io.StringIO(typed)):
            call_command("user", *arguments, stdout=out)
        return out.getvalue()

    def test_add_list_password_remove(self) -> None:
        self.run_user("add", "bo", typed="a long password\n")
        guest = Client()
        guest.post("/sign-in", {"username": "bo", "password": "a long password"})
        self.assertEqual(guest.get("/").status_code, 200)
        self.assertRegex(self.run_user("list"), r"bo +0 mixes, last here 20\d\d-")
        self.run_user("password", "bo", typed="another long one\n")
        bo = get_user_model().objects.get(username="bo")
        self.assertTrue(bo.check_password("another long one"))
        with self.assertRaisesRegex(CommandError, "alone owns Pier"):
            self.run_user("remove", "ada")
        self.run_user("remove", "bo")
        with self.assertRaisesRegex(CommandError, "Nobody signs in as bo"):
            self.run_user("remove", "bo")
        with self.assertRaisesRegex(CommandError, "too short"):
            self.run_user("add", "cy", typed="short\n")
