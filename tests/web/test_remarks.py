"""Remarks: made by whoever listens, answered, resolved, listed, and turned into markers."""

import csv
import io
from typing import Any

from django.test import Client

from metaphon.web.mixes.models import Member
from metaphon.web.together.models import Remark
from tests.sounds import noise
from tests.web.base import WebTest, make_user


class Remarks(WebTest):
    def setUp(self) -> None:
        super().setUp()
        self.gull = self.bring_in("gull.wav", noise(1, 1.0))
        self.listener = Client()
        bo = make_user("bo")
        Member.objects.create(mix=self.mix, user=bo, role="listener")
        self.listener.force_login(bo)

    def say(self, client: Client | None = None, **data: object) -> Any:
        return self.post("together:add", client=client or self.client, **data)

    def test_whoever_listens_says_something_of_a_place_a_span_a_track_or_all(self) -> None:
        self.say(self.listener, text="Too near", start_s="0.5", strip=self.gull.ref)
        self.say(text="Louder", start_s="0.25", end_s="0.75")
        page = self.say(text="Lovely")
        self.assertContains(page, "Too near")
        rows = [(row.text, row.start_s, row.end_s, row.strip) for row in Remark.objects.all()]
        self.assertEqual(
            rows,
            [
                ("Lovely", None, None, ""),
                ("Louder", 0.25, 0.75, ""),
                ("Too near", 0.5, None, self.gull.ref),
            ],
        )
        self.assertContains(self.fragment("together:show"), "gull")

    def test_what_cannot_be_is_said_in_a_sentence(self) -> None:
        for data, said in (
            ({"text": "  "}, "needs words"),
            ({"text": "x" * 2001}, "at most 2000"),
            ({"text": "x", "start_s": "2", "end_s": "1"}, "ends after it begins"),
            ({"text": "x", "end_s": "1"}, "ends after it begins"),
            ({"text": "x", "start_s": "soon"}, "time"),
            ({"text": "x", "strip": "nobody"}, "no longer in the mix"),
        ):
            answer = self.say(**data)
            self.assertEqual(answer.status_code, 422)
            self.assertIn(said, self.said(answer))
        self.assertEqual(Remark.objects.count(), 0)

    def test_answered_resolved_opened_again_deleted(self) -> None:
        self.say(text="Too near", start_s="0.5")
        row = Remark.objects.get()
        self.post("together:answer", row.pk, client=self.listener, text="I like it")
        self.assertContains(self.fragment("together:show"), "I like it")
        answer = self.post("together:resolve", row.pk, client=self.listener)
        self.assertIn("who made a remark", self.said(answer))
        self.assertNotContains(self.post("together:resolve", row.pk), "Too near")
        self.assertContains(self.fragment("together:show"), "Resolved, 1")
        listed = self.client.get(
            self.url("together:show") + "?resolved=1", headers={"HX-Request": "true"}
        )
        self.assertContains(listed, "Resolved by ada")
        self.post("together:resolve", row.pk, resolved="1")
        self.assertContains(self.fragment("together:show"), "Too near")
        self.post("together:remove", row.pk)
        self.assertFalse(Remark.objects.exists())

    def test_it_remembers_the_state_that_it_was_made_on(self) -> None:
        self.say(text="As it is now")
        self.assertNotContains(self.fragment("together:show"), "As it was")
        self.set(self.gull, "gain_db", -6)
        page = self.fragment("together:show")
        revision = Remark.objects.get().revision
        self.assertContains(page, f'data-compare="revision {revision}"')

    def test_as_markers_once(self) -> None:
        self.say(text="Too near", start_s="0.5")
        self.say(self.listener, text="Louder", start_s="0.25")
        self.say(text="Of the whole")
        self.post("together:as_markers")
        held = [(one.at_s, one.name) for one in self.document().markers]
        self.assertEqual(held, [(0.25, "bo: Louder"), (0.5, "ada: Too near")])
        self.assertEqual(self.post("together:as_markers").status_code, 422)
        self.post("undo")
        self.assertEqual(self.document().markers, ())
        self.assertEqual(self.post("together:as_markers", client=self.listener).status_code, 403)

    def test_as_a_table_that_runs_no_formula(self) -> None:
        self.say(text='=HYPERLINK("x")', start_s="0.5", strip=self.gull.ref)
        row = Remark.objects.get()
        self.post("together:answer", row.pk, text="No")
        answer = self.client.get(self.url("together:csv"))
        self.assertIn("Pier_remarks.csv", answer["Content-Disposition"])
        [head, line] = csv.reader(io.StringIO(answer.content.decode()))
        told = dict(zip(head, line, strict=True))
        self.assertEqual(told["start_s"], "0.500")
        self.assertEqual(told["remark"], '\'=HYPERLINK("x")')
        self.assertEqual((told["track"], told["answers"]), ("gull", "ada: No"))
