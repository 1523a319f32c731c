"""Handovers approved or sent back, and heard by link without an account."""

import re
from datetime import timedelta
from typing import Any

from django.test import Client
from django.utils.timezone import now

from metaphon.web.jobs.models import Render, RenderFile
from metaphon.web.jobs.tasks import render_mix
from metaphon.web.mixes.models import Member
from metaphon.web.together.models import MOST_WRONG, Decision, Remark, Share
from metaphon.web.together.sharing import live_by
from tests.sounds import noise
from tests.web.base import WebTest, make_user


class HandedOver(WebTest):
    def setUp(self) -> None:
        super().setUp()
        self.bring_in("a.wav", noise(1, 0.5))
        self.row = self.handed_over("First")

    def handed_over(self, label: str) -> Render:
        self.post("handover:start", label=label)
        row = self.mix.renders.first()
        assert row is not None
        render_mix(render_id=row.pk)
        row.refresh_from_db()
        return row

    def body(self, response: Any) -> bytes:
        return b"".join(response) if response.streaming else response.content


class Deciding(HandedOver):
    def test_a_listener_sends_it_back_and_then_approves(self) -> None:
        bo = make_user("bo")
        Member.objects.create(mix=self.mix, user=bo, role="listener")
        guest = Client()
        guest.force_login(bo)

        def decide(**data: str) -> Any:
            return self.post("together:decide", self.row.pk, client=guest, **data)

        self.assertIn("Say what is wrong", self.said(decide(approved="no")))
        self.assertContains(decide(approved="no", text="Gull too loud"), "Sent back")
        remark = Remark.objects.get()
        self.assertEqual((remark.render, remark.revision), (self.row, self.row.revision))
        self.assertContains(decide(approved="yes"), "Approved")
        told = [(one.user, one.approved, one.text) for one in Decision.objects.all()]
        self.assertEqual(told, [(bo, False, "Gull too loud"), (bo, True, "")])
        self.assertContains(self.client.get(self.url("handover:show")), "Sent back")

    def test_what_is_not_finished_waits(self) -> None:
        self.post("handover:start")
        row = self.mix.renders.first()
        answer = self.post("together:decide", row.pk, approved="yes")
        self.assertIn("not finished", self.said(answer))


class ByLink(HandedOver):
    def link(self, **data: object) -> str:
        page = self.post("together:share", **{"days": 7, "name": "Client", **data})
        found = re.search(r'value="http://testserver(/shared/[^"]+)"', page.content.decode())
        assert found, page.content.decode()
        return found[1]

    def test_who_has_it_listens_and_does_nothing_else(self) -> None:
        address, guest = self.link(), Client()
        page = guest.get(address)
        self.assertContains(page, "Stereo (0+2+0)")
        file = RenderFile.objects.get(render=self.row, target="0+2+0", kind="audio")
        part = guest.get(f"{address}/{file.pk}", headers={"Range": "bytes=0-3"})
        self.assertEqual((part.status_code, self.body(part)), (206, b"RIFF"))
        self.assertEqual(part["Content-Type"], "audio/wav")
        for other in (self.url("flow:show"), self.url("handover:show"), "/"):
            self.assertEqual(guest.get(other).status_code, 302)
        report = RenderFile.objects.get(render=self.row, kind="json")
        self.assertEqual(guest.get(f"{address}/{report.pk}").status_code, 404)
        self.assertEqual(Share.objects.get().opened, 1)
        self.assertContains(self.fragment("together:shares"), "opened")

    def test_the_newest_is_the_newest_and_one_is_one(self) -> None:
        newest, first = self.link(), self.link(render=self.row.pk)
        file = RenderFile.objects.get(render=self.row, target="0+2+0", kind="audio")
        self.handed_over("Second")
        guest = Client()
        self.assertContains(guest.get(newest), "Second")
        self.assertContains(guest.get(first), "First")
        self.assertEqual(guest.get(f"{newest}/{file.pk}").status_code, 404)
        self.assertEqual(guest.get(f"{first}/{file.pk}").status_code, 200)

    def test_with_a_password(self) -> None:
        address, guest = self.link(password="lamp"), Client()
        file = RenderFile.objects.get(render=self.row, target="0+2+0", kind="audio")
        self.assertNotContains(guest.get(address), "<audio")
        self.assertEqual(guest.get(f"{address}/{file.pk}").status_code, 404)
        self.assertContains(guest.post(address, {"password": "buoy"}), "not right", status_code=422)
        self.assertRedirects(guest.post(address, {"password": "lamp"}), address)
        self.assertEqual(guest.get(f"{address}/{file.pk}").status_code, 200)
        self.assertNotContains(Client().get(address), "<audio")
        for _ in range(MOST_WRONG):
            Client().post(address, {"password": "guess"})
        self.assertEqual(Client().post(address, {"password": "lamp"}).status_code, 410)

    def test_one_to_the_mix_itself_opens_nothing_else(self) -> None:
        address, guest = self.link(render="live"), Client()
        page = guest.get(address)
        self.assertContains(page, 'data-frames="24000"')
        self.assertContains(page, "Binaural")
        self.assertNotContains(page, "<audio")
        file = RenderFile.objects.get(render=self.row, target="0+2+0", kind="audio")
        self.assertEqual(guest.get(f"{address}/{file.pk}").status_code, 404)
        self.assertContains(self.fragment("together:shares"), "the mix itself")
        text = address.rpartition("/")[2]
        self.assertEqual(live_by(text, {}), Share.objects.get())
        self.assertIsNone(live_by(self.link().rpartition("/")[2], {}))  # to a handover
        Share.objects.update(ends_at=now() - timedelta(seconds=1))
        self.assertIsNone(live_by(text, {}))

    def test_the_mix_itself_with_a_password(self) -> None:
        address, guest = self.link(render="live", password="lamp"), Client()
        text = address.rpartition("/")[2]
        self.assertNotContains(guest.get(address), "data-live")
        self.assertIsNone(live_by(text, guest.session))
        self.assertRedirects(guest.post(address, {"password": "lamp"}), address)
        self.assertIsNotNone(live_by(text, guest.session))

    def test_an_empty_mix_is_told(self) -> None:
        address = self.link(render="live")
        self.edit("intake", kind="remove_strip", strip=self.mix.strips.get().ref)
        self.assertContains(Client().get(address), "Nothing is in this mix yet")

    def test_it_ends_and_is_taken_back(self) -> None:
        late, back = self.link(), self.link()
        first, second = Share.objects.all()
        Share.objects.filter(pk=first.pk).update(ends_at=now() - timedelta(seconds=1))
        self.post("together:revoke_share", second.pk)
        for address in (late, back, "/shared/guessed"):
            self.assertEqual(Client().get(address).status_code, 410)
        self.assertEqual(Client().get(f"{late}/1").status_code, 404)

    def test_what_cannot_be_is_said(self) -> None:
        self.assertEqual(self.post("together:share", days=9).status_code, 422)
        self.assertEqual(self.post("together:share", days=7, render=10**9).status_code, 404)


class AllowedMore(ByLink):
    def test_a_remark_at_a_time_where_the_link_allows_it(self) -> None:
        closed, guest = self.link(), Client()
        words = {"guest": "Ada Client", "text": "Gull too loud", "start_s": "0,25"}
        self.assertEqual(guest.post(f"{closed}/remark", words).status_code, 404)
        self.assertNotContains(guest.get(closed), "Remark")
        address = self.link(remarks="on")
        for wrong, said in (
            ({"guest": " "}, "type your name"),
            ({"text": ""}, "needs words"),
            ({"start_s": "soon"}, "The time"),
        ):
            page = guest.post(f"{address}/remark", {**words, **wrong})
            self.assertContains(page, said)
            self.assertContains(page, "Ada Client" if "guest" not in wrong else "Gull too loud")
        self.assertFalse(Remark.objects.exists())
        page = guest.post(f"{address}/remark", words, follow=True)
        self.assertContains(page, "Gull too loud")
        row = Remark.objects.get()
        self.assertEqual((row.start_s, row.user, row.render), (0.25, None, self.row))
        shown = self.client.get(self.url("together:show"), headers={"HX-Request": "true"})
        self.assertContains(shown, "Ada Client, by a link")
        # what somebody else says is not theirs to read
        other = Client().get(address)
        self.assertNotContains(other, "Gull too loud")
        self.post("together:resolve", row.pk)
        self.assertContains(guest.get(address), "resolved")

    def test_files_are_kept_by_their_names_where_the_link_allows_it(self) -> None:
        guest, live = Client(), self.link(render="live", downloads="on")
        name = RenderFile.objects.filter(render=self.row, kind="audio").first().name
        for address in (self.link(), live):
            self.assertEqual(guest.get(f"{address}/file/{name}").status_code, 404)
        address = self.link(downloads="on")
        self.assertContains(guest.get(address), name)
        answer = guest.get(f"{address}/file/{name}")
        self.assertIn("attachment", answer["Content-Disposition"])
        stored = RenderFile.objects.get(render=self.row, name=name)
        self.assertEqual(self.body(answer), stored.file.open().read())
        self.assertEqual(guest.get(f"{address}/file/../{name}").status_code, 404)

    def test_no_sound_that_the_page_does_not_offer(self) -> None:
        self.post("handover:start", label="Stems", stems=["tracks 0+2+0"])
        row = self.mix.renders.first()
        render_mix(render_id=row.pk)
        address, guest = self.link(render=row.pk), Client()
        for file in row.files.filter(kind="audio"):
            code = guest.get(f"{address}/{file.pk}").status_code
            self.assertEqual(code, 404 if file.stem else 200, file.name)
