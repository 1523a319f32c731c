"""Passwords, second factors, sessions and tokens: each change ends what the former ones began."""

import io
import re
import threading
import time
from base64 import b32decode
from typing import Any
from unittest.mock import patch

from django.conf import settings
from django.core.management import call_command
from django.db import connection
from django.http import HttpResponse
from django.test import Client, SimpleTestCase, TransactionTestCase
from django_otp.oath import totp

from metaphon.core.errors import InputError
from metaphon.web.audit.models import AuditEntry
from metaphon.web.mixes.access import new_token
from metaphon.web.mixes.membership import remove_member
from metaphon.web.mixes.models import AccessToken, Member
from metaphon.web.people import sessions
from metaphon.web.people.models import Authenticator, SessionRecord, SpareCodes
from metaphon.web.shell import password_pool, secrets
from metaphon.web.shell.password_pool import TooManySignIns, check_in_turn
from metaphon.web.shell.secrets import decrypt, encrypt
from tests.routes import routes
from tests.web.base import WebTest, make_mix, make_user

_PASSWORD = "long enough word"
_FRESH = "another long word"


def code_of(device: Authenticator, ahead: int = 0) -> str:
    """What an authenticator shows (RFC 6238, by django-otp)."""
    return f"{totp(b32decode(device.secret_base32), drift=ahead):06d}"


class _SignedIn(WebTest):
    def setUp(self) -> None:
        super().setUp()
        self.client = self.signed_in()

    def signed_in(self, address: str = "127.0.0.1") -> Client:
        guest = Client(REMOTE_ADDR=address)
        answer = guest.post("/sign-in", {"username": "ada", "password": _PASSWORD})
        assert answer.status_code == 302, answer.content
        return guest

    def ask(self, name: str, /, **data: str) -> HttpResponse:
        return self.client.post(f"/account/{name}", data, headers={"HX-Request": "true"})

    def with_second_factor(self) -> Authenticator:
        device = Authenticator.create_for(self.user, confirmed=True)
        SpareCodes.create_for(self.user)
        return device

    def run_user(self, *arguments: str, typed: str = "") -> str:
        out = io.StringIO()
        with patch("sys.stdin", io.StringIO(typed)):
            call_command("user", *arguments, stdout=out)
        return out.getvalue()


class Changes(_SignedIn):
    def test_each_ends_sessions_tokens_and_half_sign_ins(self) -> None:
        def change_password(device: Authenticator) -> None:
            self.ask("password", password=_PASSWORD, fresh=_FRESH, code=code_of(device))

        def set_by_link(device: Authenticator) -> None:
            found = re.search(r"/sign-in/reset/\S+", self.run_user("link", "ada"))
            assert found
            Client().post(found[0], {"fresh": _FRESH})

        def set_by_operator(device: Authenticator) -> None:
            self.run_user("password", "ada", typed=f"{_FRESH}\n")

        def replace(device: Authenticator) -> None:
            self.ask("second", password=_PASSWORD, code=code_of(device))
            self.ask("second/confirm", code=code_of(Authenticator.objects.get(confirmed=False)))

        def turn_off(device: Authenticator) -> None:
            self.ask("second/drop", password=_PASSWORD, code=code_of(device))

        for change in (change_password, set_by_link, set_by_operator, replace, turn_off):
            self.user.set_password(_PASSWORD)
            self.user.save()
            Authenticator.objects.all().delete()
            SpareCodes.objects.all().delete()
            self.client, other = self.signed_in(), self.signed_in()
            self.assertEqual(other.get("/").status_code, 200)
            token = new_token(self.user, "nightly")
            device = self.with_second_factor()
            half = Client()
            half.post("/sign-in", {"username": "ada", "password": _PASSWORD})
            change(device)
            self.assertEqual(other.get("/").status_code, 302, change.__name__)
            self.assertFalse(AccessToken.objects.exists(), change.__name__)
            bearer = {"Authorization": f"Bearer {token}"}
            asked = Client().get(f"/api/mix/{self.mix.pk}", headers=bearer)
            self.assertEqual(asked.status_code, 401)
            left = Authenticator.objects.filter(confirmed=True).first() or device
            half.post("/sign-in/code", {"code": code_of(left, 1)})
            self.assertEqual(half.get("/").status_code, 302, change.__name__)
            kept = self.client.get("/").status_code
            by_oneself = change not in (set_by_link, set_by_operator)
            self.assertEqual(kept, 200 if by_oneself else 302, change.__name__)

    def test_each_asks_for_password_and_code(self) -> None:
        device = self.with_second_factor()
        kept = self.user.password
        for name in ("password", "second", "second/drop", "remove", "mail"):
            for given in (
                {},
                {"password": "wrong", "code": code_of(device)},
                {"password": _PASSWORD},
                {"password": _PASSWORD, "code": "123456"},
            ):
                answer = self.ask(name, fresh=_FRESH, email="a@house.example", **given)
                self.assertIn(answer.status_code, (422, 429), (name, given))
                AuditEntry.objects.all().delete()
                Authenticator.objects.update(throttling_failure_timestamp=None)
        self.user.refresh_from_db()
        self.assertEqual((self.user.password, self.user.email), (kept, ""))
        self.assertEqual(Authenticator.objects.get(), device)

    def test_guessing_there_is_stopped_as_it_is_at_the_door(self) -> None:
        device = self.with_second_factor()
        statuses = [self.ask("second/drop", password=f"x{n}").status_code for n in range(12)]
        self.assertEqual(statuses[0], 422)
        self.assertEqual(statuses[-1], 429)
        last = self.ask("second/drop", password=_PASSWORD, code=code_of(device))
        self.assertEqual(last.status_code, 429)
        self.assertEqual(last["Retry-After"], "900")
        self.assertTrue(Authenticator.objects.exists())

    def test_an_operator_without_one_makes_none_here(self) -> None:
        self.user.is_staff = True
        self.user.save()
        answer = self.ask("second", password=_PASSWORD)
        self.assertEqual(answer.status_code, 422)
        self.assertFalse(Authenticator.objects.exists())
        self.assertEqual(self.client.get("/operating/").status_code, 403)

    def test_a_code_in_this_session_opens_the_operators_pages(self) -> None:
        self.user.is_staff = True
        self.user.save()
        device = self.with_second_factor()
        self.assertEqual(self.client.get("/operating/").status_code, 403)
        guest = Client()
        guest.post("/sign-in", {"username": "ada", "password": _PASSWORD})
        guest.post("/sign-in/code", {"code": code_of(device)})
        self.assertEqual(guest.get("/operating/").status_code, 200)

    def test_a_code_counts_once_and_a_spare_code_too(self) -> None:
        device = self.with_second_factor()
        code = code_of(device)
        self.assertTrue(device.verify_token(code))
        self.assertFalse(device.verify_token(code))
        row, codes = SpareCodes.create_for(self.user)
        self.assertTrue(row.verify_token(codes[3].upper()))
        self.assertEqual(len(row.digests), 9)
        self.assertFalse(row.verify_token(codes[3]))

    def test_nothing_of_a_second_factor_stands_in_the_database_as_it_is(self) -> None:
        device = self.with_second_factor()
        _, codes = SpareCodes.create_for(self.user)
        with connection.cursor() as cursor:
            cursor.execute("select secret from people_authenticator")
            (secret,) = cursor.fetchone()
            cursor.execute("select digests::text from people_sparecodes")
            (digests,) = cursor.fetchone()
        self.assertNotIn(device.secret_base32, secret)
        self.assertFalse(any(code in digests for code in codes))
        self.assertEqual(decrypt(secret), device.secret_base32)


class Sessions(_SignedIn):
    def test_they_are_listed_and_ended_one_by_one(self) -> None:
        here, there = self.client, self.signed_in("192.0.2.7")
        page = here.get("/account")
        self.assertContains(page, "192.0.2.7")
        self.assertContains(page, "This one")
        record = SessionRecord.objects.get(address="192.0.2.7")
        stranger = Client()
        stranger.force_login(make_user("bo"))
        ended = f"/account/sessions/{record.pk}/end"
        self.assertEqual(stranger.post(ended).status_code, 404)
        self.assertEqual(there.get("/").status_code, 200)
        here.post(ended)
        self.assertEqual(there.get("/").status_code, 302)
        self.assertEqual(here.get("/").status_code, 200)
        self.assertNotContains(here.get("/account"), "192.0.2.7")

    def test_a_sign_in_from_a_new_place_is_told_elsewhere(self) -> None:
        self.assertNotContains(self.client.get("/"), "New sign-in")
        near, far = self.signed_in("127.0.0.99"), self.signed_in("198.51.100.4")
        self.assertNotContains(far.get("/"), "New sign-in")
        self.assertContains(self.client.get("/"), "New sign-in")
        self.assertContains(self.client.get("/account"), "New place")
        far.post("/account/sessions/known")  # nobody says so of themselves
        self.assertContains(near.get("/"), "New sign-in")
        self.client.post("/account/sessions/known")
        self.assertNotContains(near.get("/"), "New sign-in")

    def test_one_that_began_before_this_version_is_listed_once_used(self) -> None:
        SessionRecord.objects.all().delete()
        sessions._noted_at.clear()
        self.client.get("/")
        self.assertEqual(SessionRecord.objects.get().address, "127.0.0.1")


class Trail(WebTest):
    def test_owners_see_their_mix_alone_and_export_it(self) -> None:
        bo = make_user("bo")
        Member.objects.create(mix=self.mix, user=bo, role="editor")
        other = make_mix(bo, "=Cellar")
        self.client.post(self.url("invite"), {"role": "editor", "days": "7"})
        guest = Client()
        guest.force_login(bo)
        guest.post(f"/mix/{other.pk}/invite", {"role": "owner", "days": "7"})
        page = self.client.get(self.url("audit_of_mix"))
        self.assertContains(page, "Made an invitation")
        self.assertNotContains(page, "Cellar")
        self.assertEqual(guest.get(self.url("audit_of_mix")).status_code, 403)
        table = guest.get(f"/mix/{other.pk}/audit?csv").content.decode().splitlines()
        self.assertEqual(table[0], "time,event,person,mix,address,details")
        # no cell that a spreadsheet carries out
        self.assertRegex(table[1], r"Made an invitation,bo,'=Cellar,127\.0\.0\.1,")

    def test_it_outlives_whom_it_is_about_and_holds_no_secret(self) -> None:
        made = self.client.post("/tokens/new", {"name": "nightly"}).content.decode()
        token = max(re.findall(r'value="([\w-]{30,})"', made), key=len)
        Client().post("/sign-in", {"username": "ada", "password": "not the one"})
        self.client.post(self.url("remove_mix"), {"title": "Pier"})
        self.client.post("/account/remove", {"password": _PASSWORD})
        kinds = set(AuditEntry.objects.values_list("kind", flat=True))
        self.assertLessEqual({"token_made", "sign_in_refused", "mix_deleted"}, kinds)
        told = str(list(AuditEntry.objects.values_list()))
        for secret in (token, "not the one", _PASSWORD):
            self.assertNotIn(secret, told)


class NothingIsCached(WebTest):
    def test_what_is_ones_own_is_kept_by_no_cache(self) -> None:
        seen = 0
        for route in routes():
            address = route.address(
                mix_id=str(self.mix.pk),
                int="1",
                uuid="0" * 8 + "-0000-0000-0000-" + "0" * 12,
                slug="route",
                str="x",
            )
            answer = self.client.get(address)
            kept = answer.get("Cache-Control", "")
            self.assertIn("private" if route.name == "helps" else "no-store", kept, route.name)
            seen += answer.status_code == 200
        self.assertGreater(seen, 15)


class Encryption(SimpleTestCase):
    def test_another_key_says_so_and_a_former_one_still_opens(self) -> None:
        kept = encrypt("lamp")
        self.assertEqual(decrypt(kept), "lamp")
        former = settings.SECRET_KEY
        self.addCleanup(secrets._cipher.cache_clear)
        with self.settings(SECRET_KEY="x" * 60):
            secrets._cipher.cache_clear()
            with self.assertRaisesRegex(InputError, "METAPHON_SECRET_KEY"):
                decrypt(kept)
        with self.settings(SECRET_KEY="x" * 60, SECRET_KEY_FALLBACKS=[former]):
            secrets._cipher.cache_clear()
            self.assertEqual(decrypt(kept), "lamp")


class Turns(TransactionTestCase):
    def test_sixty_at_once_are_hashed_in_turn_without_a_connection(self) -> None:
        make_user("ada")
        at_once, most, held = 0, 0, []
        lock = threading.Lock()

        def slow(password: str, encoded: str) -> bool:
            nonlocal at_once, most
            with lock:
                at_once += 1
                most = max(most, at_once)
                held.append(connection.connection is not None)
            time.sleep(0.01)
            with lock:
                at_once -= 1
            return False

        def sign_in() -> None:
            connection.ensure_connection()
            check_in_turn("wrong", None)

        with patch.object(password_pool, "check_password", slow):
            threads = [threading.Thread(target=sign_in) for _ in range(60)]
            for thread in threads:
                thread.start()
            for thread in threads:
                thread.join()
        self.assertEqual(len(held), 60)
        self.assertEqual(most, 1)
        self.assertFalse(any(held))

    def test_beyond_what_may_wait_one_is_told_when_to_come_again(self) -> None:
        turns = password_pool._Turns(1)
        self.enterContext(patch.object(password_pool, "_MOST_WAITING", 0))
        with self.assertRaises(TooManySignIns), turns.turn():
            pass
        self.enterContext(patch.object(password_pool, "_of_strangers", turns))
        with self.assertLogs("django.request", "ERROR"):
            answer: Any = Client().post("/sign-in", {"username": "a", "password": "b"})
        self.assertEqual((answer.status_code, answer["Retry-After"]), (503, "10"))

    def test_two_owners_who_leave_at_once_leave_one(self) -> None:
        for _ in range(5):
            ada, bo = make_user(f"ada{time.time_ns()}"), make_user(f"bo{time.time_ns()}")
            mix = make_mix(ada)
            Member.objects.create(mix=mix, user=bo, role="owner")
            told: list[str] = []
            start = threading.Barrier(2)

            def leave(
                user: Any, mix: Any = mix, told: list[str] = told, start: Any = start
            ) -> None:
                start.wait()
                try:
                    remove_member(mix, user)
                except InputError as error:
                    told.append(str(error))
                finally:
                    connection.close()

            threads = [threading.Thread(target=leave, args=[user]) for user in (ada, bo)]
            for thread in threads:
                thread.start()
            for thread in threads:
                thread.join()
            self.assertEqual(len(told), 1)
            self.assertEqual(mix.members.count(), 1)
