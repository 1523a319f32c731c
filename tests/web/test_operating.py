"""The pages of operators: for staff with a second factor, for nobody else."""

from io import StringIO
from typing import Any

from django.core.management import call_command
from django.test import Client
from django_otp import DEVICE_ID_SESSION_KEY

from metaphon.web.jobs.models import Render
from metaphon.web.mixes.models import AccessToken, Member
from metaphon.web.operating import site
from metaphon.web.people.models import Authenticator
from tests.web.base import WebTest, make_user


class Operating(WebTest):
    def setUp(self) -> None:
        super().setUp()
        self.operator = make_user("olga")
        self.pages = Client()
        self.pages.force_login(self.operator)

    def let_in(self) -> None:
        told = StringIO()
        call_command("user", "operator", "olga", stdout=told)
        device = Authenticator.objects.get(user=self.operator)
        self.assertIn(device.secret_base32, told.getvalue())
        self.pages.force_login(self.operator)
        # a second factor that was not asked for in this session is none
        self.assertEqual(self.pages.get("/operating/").status_code, 403)
        session = self.pages.session
        session[DEVICE_ID_SESSION_KEY] = device.persistent_id
        session.save()

    def posted(self, address: str, **data: Any) -> Any:
        return self.pages.post(f"/operating/{address}", data, follow=True)

    def test_for_nobody_else(self) -> None:
        for address in ("", "auth/user/", "login/", "mixes/mix/", "jsi18n/", "logout/"):
            self.assertEqual(self.client.get(f"/operating/{address}").status_code, 403, address)
            answer = Client().get(f"/operating/{address}")
            self.assertTrue(answer["Location"].startswith("/sign-in?"), address)
        Authenticator.create_for(self.operator, confirmed=True)
        self.assertEqual(self.pages.get("/operating/").status_code, 403)  # nor with one alone
        self.assertNotContains(self.pages.get("/"), "/operating/")

    def test_everything_is_listed_and_opened(self) -> None:
        self.let_in()
        self.assertContains(self.pages.get("/"), "/operating/")
        Render.objects.create(mix=self.mix, revision=0, options={})
        AccessToken.objects.create(user=self.user, name="nightly", digest="d" * 64)
        for model in site._registry:
            place = f"/operating/{model._meta.app_label}/{model._meta.model_name}/"
            self.assertEqual(self.pages.get(place).status_code, 200, place)
            self.assertEqual(self.pages.get(f"{place}?q=a").status_code, 200, place)
            row = model._default_manager.first()
            if row is not None:
                page = self.pages.get(f"{place}{row.pk}/change/")
                self.assertEqual(page.status_code, 200, place)
                self.assertNotContains(page, "d" * 64)  # no digest, no secret

    def test_a_mix_is_given_another_owner(self) -> None:
        self.let_in()
        answer = self.posted(
            "mixes/member/add/", mix=self.mix.pk, user=self.operator.pk, role="owner"
        )
        self.assertEqual(answer.status_code, 200)
        self.assertTrue(self.mix.members.filter(user=self.operator, role="owner").exists())
        row = Member.objects.get(user=self.operator)
        self.posted(f"mixes/member/{row.pk}/change/", role="listener")
        row.refresh_from_db()
        self.assertEqual(row.role, "listener")

    def test_a_render_is_stopped_and_a_token_taken_back(self) -> None:
        self.let_in()
        row = Render.objects.create(mix=self.mix, revision=0, options={})
        self.posted("jobs/render/", action="stop", _selected_action=row.pk)
        row.refresh_from_db()
        self.assertEqual(row.status, Render.Status.CANCELLED)
        token = AccessToken.objects.create(user=self.user, name="nightly", digest="e" * 64)
        self.posted(f"mixes/accesstoken/{token.pk}/delete/", post="yes")
        self.assertFalse(AccessToken.objects.exists())

    def test_somebody_is_locked_out_but_not_oneself(self) -> None:
        self.let_in()
        self.posted(f"auth/user/{self.user.pk}/change/", is_staff="on")  # no longer active
        self.user.refresh_from_db()
        self.assertEqual((self.user.is_active, self.user.is_staff), (False, True))
        self.posted(f"auth/user/{self.operator.pk}/change/")
        self.operator.refresh_from_db()
        self.assertTrue(self.operator.is_active)
        self.assertEqual(self.pages.get("/operating/auth/user/add/").status_code, 403)
        gone = self.posted(f"mixes/mix/{self.mix.pk}/delete/", post="yes")
        self.assertEqual(gone.status_code, 403)

    def test_and_no_longer(self) -> None:
        self.let_in()
        self.assertEqual(self.pages.get("/operating/").status_code, 200)
        call_command("user", "operator", "olga", stdout=StringIO())
        self.assertEqual(self.pages.get("/operating/").status_code, 302)  # signed out as well
