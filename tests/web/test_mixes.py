"""Who sees what, how a mix changes, and how a change is taken back."""

import re
from pathlib import Path
from typing import Any

import numpy as np
from django.conf import settings
from django.contrib.auth import get_user_model
from django.core.management import call_command
from django.db import DataError, IntegrityError, transaction
from django.db.models import RestrictedError
from django.test import Client, override_settings
from django.urls import reverse

from metaphon.core.checks.rules import check
from metaphon.core.demo.starting_mixes import STARTING_MIXES
from metaphon.core.document.targets import target_named
from metaphon.core.edits.registry import read
from metaphon.core.edits.typed_values import read_number
from metaphon.core.engine.plan import compile
from metaphon.core.engine.render import Output, render
from metaphon.core.errors import InputError
from metaphon.web.mixes import journal, snapshots
from metaphon.web.mixes.models import AudioFile, Member, Mix, Send, Strip
from metaphon.web.mixes.snapshots import document_of
from metaphon.web.people.models import Invitation
from tests.sounds import noise
from tests.web.base import WebTest, make_mix, make_user, named

HTMX = {"HX-Request": "true"}


class SigningIn(WebTest):
    def test_demo_name_and_password_are_shown_in_demo_mode_only(self) -> None:
        self.client.logout()
        self.assertContains(self.client.get("/sign-in"), "harbour-lamp")
        with self.settings(DEMO=False):
            self.assertNotContains(self.client.get("/sign-in"), "harbour-lamp")

    def test_a_wrong_password_is_told_and_guessing_is_stopped(self) -> None:
        self.client.logout()
        for _ in range(7):
            answer = self.client.post("/sign-in", {"username": "ada", "password": "wrong"})
            self.assertContains(answer, "do not go together")
        self.assertEqual(
            self.client.post("/sign-in", {"username": "ada", "password": "wrong"}).status_code, 429
        )

    def test_one_password_is_not_tried_on_many_names(self) -> None:
        def sign_in(name: str, password: str, **rest: str) -> int:
            data = {"username": name, "password": password}
            return Client(**rest).post("/sign-in", data).status_code

        for number in range(settings.ADDRESS_FAILURE_LIMIT - 1):
            self.assertEqual(sign_in(f"person{number}", "harbour-lamp"), 200)
        sign_in("person", "harbour-lamp")
        self.assertEqual(sign_in("ada", "long enough word"), 429)
        self.assertEqual(sign_in("ada", "long enough word", REMOTE_ADDR="10.1.2.3"), 302)

    @override_settings(DEMO=False)
    def test_without_demo_mode_there_is_no_demo_person(self) -> None:
        call_command("demo")
        self.assertFalse(get_user_model().objects.filter(username=settings.DEMO_USER).exists())

    def test_a_name_longer_than_any_is_a_wrong_one(self) -> None:
        for name in ("x" * 300, "²" * 151):
            answer = Client().post("/sign-in", {"username": name, "password": "wrong"})
            self.assertEqual(answer.status_code, 200)
            self.assertTrue(answer.context["form"].errors)

    def test_pages_run_no_foreign_or_inline_script(self) -> None:
        answer = self.client.get(self.url("flow:show"))
        self.assertIn("default-src 'self'", answer["Content-Security-Policy"])
        self.assertNotContains(answer, "style=")


class Membership(WebTest):
    def test_a_mix_is_not_there_for_others(self) -> None:
        strip = self.bring_in("a.wav")
        self.client.force_login(make_user("eve"))
        self.assertNotContains(self.client.get("/"), "Pier")
        for name in ("intake:show", "flow:show", "handover:show", "listen:sources", "history"):
            self.assertEqual(self.fragment(name).status_code, 404)
        self.assertEqual(self.set(strip, "gain_db", "-6").status_code, 404)
        self.assertEqual(self.announce("b.wav", 9).status_code, 404)

    def test_a_strip_of_another_mix_is_not_reached_through_ones_own(self) -> None:
        eve = make_user("eve")
        other = make_mix(eve, "Other")
        journal.apply(other, eve, read({"kind": "add_bus", "name": "X"}))
        foreign = named(other, "X")
        self.assertIn("no longer in the mix", self.said(self.set(foreign, "gain_db", "-6")))
        mine = self.bring_in("a.wav")
        for command in ({"kind": "send", "bus": foreign.ref}, {"kind": "route", "to": foreign.ref}):
            answer = self.edit("flow", strips=[mine.ref], **command)
            self.assertIn("no longer in the mix", self.said(answer))

    def test_a_listener_hears_but_does_not_change(self) -> None:
        strip = self.bring_in("a.wav")
        ear = make_user("bo")
        Member.objects.create(mix=self.mix, user=ear, role="listener")
        self.client.force_login(ear)
        self.assertContains(self.client.get(self.url("flow:show")), "disabled")
        for answer in (
            self.set(strip, "gain_db", "-6"),
            self.post("handover:start"),
            self.edit("flow", kind="add_bus", name="B"),
        ):
            self.assertEqual(answer.status_code, 403)
            self.assertIn("may listen", self.said(answer))
        self.assertEqual(self.announce("b.wav", 9).status_code, 403)
        self.assertEqual(strip.gain_db, 0.0)

    def test_the_owner_lets_people_in_and_out(self) -> None:
        bo, guest = make_user("bo"), Client()
        guest.force_login(bo)
        # the answer is the same for a name that nobody has
        pages = [
            self.client.post(
                self.url("offer"), {"username": name, "role": "editor"}, follow=True
            ).content.decode()
            for name in ("bo", "no one")
        ]
        self.assertIn("Offered to bo", pages[0])
        self.assertIn("Offered to no one", pages[1])
        self.assertFalse(self.mix.members.filter(user=bo).exists())
        found = re.search(r"/offers/(\d+)", guest.get("/offers", headers=HTMX).content.decode())
        assert found
        stranger = Client()
        stranger.force_login(make_user("cy"))
        self.assertEqual(stranger.post(found[0]).status_code, 404)
        self.assertRedirects(guest.post(found[0]), self.url("open_mix"), target_status_code=302)
        self.assertEqual(self.mix.members.get(user=bo).role, "editor")
        self.client.post(self.url("members"), {"username": "bo", "role": "listener"})
        self.assertEqual(self.mix.members.get(user=bo).role, "listener")
        self.client.post(self.url("members"), {"username": "bo", "role": ""})
        self.assertFalse(self.mix.members.filter(user=bo).exists())
        for name in ("cy", "no one"):  # somebody who is no member, and nobody
            answer = self.client.post(self.url("members"), {"username": name, "role": "editor"})
            self.assertContains(answer, f"{name} takes no part", status_code=422)

    def test_an_offer_is_declined_or_taken_back(self) -> None:
        guest = Client()
        guest.force_login(make_user("bo"))
        for role in ("listener", "editor"):  # the second takes the place of the first
            self.client.post(self.url("offer"), {"username": "bo", "role": role})
        (row,) = Invitation.objects.all()
        self.assertEqual(row.role, "editor")
        guest.post(f"/offers/{row.pk}", {"decline": "1"})
        self.assertFalse(Invitation.objects.exists())
        self.client.post(self.url("offer"), {"username": "bo", "role": "owner"})
        row = Invitation.objects.get()
        self.client.post(self.url("revoke_invitation", row.pk))
        self.assertEqual(guest.post(f"/offers/{row.pk}").status_code, 404)
        self.assertFalse(self.mix.members.filter(user__username="bo").exists())

    def test_deleting_needs_the_name(self) -> None:
        strip = self.bring_in("a.wav")
        path = strip.recording.file.path
        answer = self.client.post(self.url("remove_mix"), {"title": "pier"})
        self.assertContains(answer, "Nothing was deleted", status_code=422)
        self.client.post(self.url("remove_mix"), {"title": "Pier"})
        self.assertFalse(Mix.objects.filter(pk=self.mix.pk).exists())
        self.assertFalse(Path(path).exists())


class Making(WebTest):
    def test_a_new_mix(self) -> None:
        answer = self.client.post(
            reverse("create_mix"), {"title": " Reef ", "sample_rate_hz": "96000"}
        )
        mix = Mix.objects.get(title="Reef")
        self.assertRedirects(answer, reverse("intake:show", args=[mix.pk]))
        self.assertEqual(mix.sample_rate_hz, 96000)
        self.assertContains(
            self.client.get(reverse("intake:show", args=[mix.pk])), "No recordings yet"
        )
        self.assertContains(
            self.client.get(reverse("handover:show", args=[mix.pk])), "no sound to render yet"
        )
        for data in ({"title": ""}, {"title": "x", "sample_rate_hz": "8000"}):
            self.assertEqual(self.client.post(reverse("create_mix"), data).status_code, 422)


class Beginnings(WebTest):
    def made(self, begin: str, title: str = "New") -> Mix:
        self.client.post(reverse("create_mix"), {"title": title, "begin": begin})
        return Mix.objects.get(title=title)

    def test_each_starting_mix_sounds_in_all_its_targets_and_nothing_is_found_wrong(self) -> None:
        for name in STARTING_MIXES:
            with self.subTest(name):
                mix = self.made(name, name)
                document = document_of(mix)
                self.assertEqual([track.name for track in document.tracks], ["Test signal"])
                plan = compile(document)
                outputs = [Output(target_named(target)) for target in document.targets]
                self.assertGreaterEqual(len(outputs), 2)
                [first, *_] = render(plan, outputs, last=4096)
                self.assertTrue(all(np.abs(block).max() > 0.01 for block in first))
                self.assertEqual(check(document), [])

    def test_every_loudspeaker_in_its_turn(self) -> None:
        """At each second the one loudspeaker whose turn it is sounds, at -20 dBFS."""
        mix = self.made("immersive")
        plan = compile(document_of(mix))
        [target] = [Output(target_named("4+7+0"))]
        sound = np.concatenate([b[0] for b in render(plan, [target])], axis=1)
        for second in range(12):
            rms = np.sqrt(np.mean(sound[:, second * 48000 : (second + 1) * 48000] ** 2, axis=1))
            self.assertEqual(int(rms.argmax()), second)
            self.assertAlmostEqual(20 * np.log10(rms[second]), -20.0, delta=0.4)
            self.assertLess(np.delete(rms, second).max(), 1e-4)

    def test_like_another_without_its_recordings(self) -> None:
        track = self.bring_in("gull.wav")
        bus = self.edit("flow", kind="add_bus", name="Cave", reverb=True)
        self.assertEqual(bus.status_code, 200)
        self.set(track, "gain_db", "-6")
        mix = self.made(f"mix {self.mix.pk}")
        document = document_of(mix)
        [again] = document.tracks
        self.assertEqual((again.name, again.gain_db, again.clips), ("gull", -6.0, ()))
        self.assertEqual([bus.name for bus in document.buses], ["Cave"])
        self.assertFalse(mix.audio_files.exists())
        for begin in ("mix 999999", "walrus"):
            answer = self.client.post(reverse("create_mix"), {"title": "x", "begin": begin})
            self.assertIn(answer.status_code, (404, 422))

    def test_a_copy_has_recordings_of_its_own(self) -> None:
        track = self.bring_in("gull.wav")
        self.client.post(self.url("duplicate_mix"))
        copy = Mix.objects.get(title="Pier (copy)")
        [audio] = copy.audio_files.all()
        theirs = self.mix.audio_files.get()
        self.assertNotEqual(audio.file.name, theirs.file.name)
        self.assertEqual(Path(audio.file.path).read_bytes(), Path(theirs.file.path).read_bytes())
        self.assertEqual(document_of(copy).tracks[0].name, track.name)
        self.client.post(self.url("remove_mix"), {"title": "Pier"})
        self.assertTrue(Path(audio.file.path).is_file())


class States(WebTest):
    def test_a_state_is_named_and_gone_back_to_as_one_step(self) -> None:
        track = self.bring_in("gull.wav")
        self.set(track, "gain_db", "-6")
        revision = Mix.objects.get(pk=self.mix.pk).revision
        self.set(track, "gain_db", "-20")
        self.edit("flow", kind="add_bus", name="Cave")
        named = self.post("name_state", revision, name="First balance")
        self.assertContains(named, "First balance")
        page = self.fragment("history")
        self.assertContains(page, f'data-compare="revision {revision}"')
        back = self.post("go_back", revision)
        self.assertIn("Went back to: First balance", back["HX-Trigger"])
        document = self.document()
        self.assertEqual((document.tracks[0].gain_db, document.buses), (-6.0, ()))
        self.post("undo")
        document = self.document()
        self.assertEqual((document.tracks[0].gain_db, len(document.buses)), (-20.0, 1))
        self.post("go_back", 0)
        self.assertEqual(self.document().tracks, ())
        self.post("undo")
        self.assertEqual(self.document(), document)

    def test_a_named_state_is_listed_however_old(self) -> None:
        track = self.bring_in("gull.wav")
        self.post("name_state", 1, name="As it came")
        for n in range(70):
            self.set(track, "gain_db", f"-{n / 10}")
        self.assertContains(self.fragment("history"), "As it came")
        self.post("name_state", 1, name="")
        self.assertNotContains(self.fragment("history"), "As it came")

    def test_listeners_name_nothing_and_go_nowhere(self) -> None:
        self.bring_in("gull.wav")
        bob = make_user("bob")
        Member.objects.create(mix=self.mix, user=bob, role="listener")
        self.client.force_login(bob)
        for view, data in (("name_state", {"name": "x"}), ("go_back", {})):
            self.assertEqual(self.post(view, 1, **data).status_code, 403)
        self.assertEqual(self.post("name_state", 99).status_code, 403)


class TheList(WebTest):
    def titles(self, **query: str) -> list[str]:
        return [row.mix.title for row in self.client.get("/", query).context["mixes"]]

    def test_found_sorted_and_put_away_by_each_person_alone(self) -> None:
        make_mix(self.user, "Atoll")
        make_mix(make_user("eve"), "Strangers")
        both = make_mix(make_user("bob"), "Shared")
        Member.objects.create(mix=both, user=self.user, role="listener")
        self.bring_in("gull.wav")
        self.assertEqual(self.titles(sort="name"), ["Atoll", "Pier", "Shared"])
        self.assertEqual(self.titles()[0], "Pier")  # the last that was changed
        self.assertEqual(self.titles(sort="length")[0], "Pier")
        self.assertEqual(self.titles(q="hAr"), ["Shared"])
        self.assertEqual(self.titles(q="walrus"), [])
        self.client.post(reverse("put_away", args=[both.pk]))
        self.assertEqual(self.titles(sort="name"), ["Atoll", "Pier"])
        self.assertEqual(self.titles(away="1"), ["Shared"])
        self.assertContains(self.client.get("/"), "1 put away")
        self.client.force_login(both.members.get(role="owner").user)
        self.assertEqual(self.titles(), ["Shared"])
        self.client.force_login(self.user)
        self.client.post(reverse("put_away", args=[both.pk]), {"back": "1"})
        self.assertEqual(self.titles(away="1"), [])

    def test_a_row_has_its_length_and_its_picture(self) -> None:
        self.bring_in("gull.wav", noise(1, 2.0))
        [row] = self.client.get("/").context["mixes"]
        self.assertAlmostEqual(row.mix.length_s, 2.0, places=3)
        self.assertEqual((row.mix.tracks, row.mix.buses), (1, 0))
        loud = [-float(y) for y in row.outline[2:].split(" L ")[0].split()[1::2]]
        self.set(self.named("gull"), "clips/0/start_s", "2")
        [row] = self.client.get("/").context["mixes"]
        later = [-float(y) for y in row.outline[2:].split(" L ")[0].split()[1::2]]
        self.assertGreater(min(loud), 0.5)
        self.assertEqual(set(later[:50]), {0.02})  # silence before it
        self.assertGreater(min(later[50:]), 0.5)
        found = self.client.get("/", headers={"HX-Request": "true", "HX-Target": "mixes"})
        self.assertNotContains(found, "<html")


class Journal(WebTest):
    def setUp(self) -> None:
        super().setUp()
        self.track = self.bring_in("gull.wav")
        self.bus = self.edit(
            "flow", kind="add_bus", name="Cave", reverb=True, layout="0+5+0"
        ) and self.named("Cave")

    def state(self) -> object:
        return document_of(Mix.objects.get(pk=self.mix.pk))

    def test_every_kind_of_change_can_be_undone_and_done_again(self) -> None:
        states = [self.state()]
        for answer in (
            lambda: self.set(self.track, "gain_db", "−6,5 dB"),
            lambda: self.set(self.track, "muted", "on"),
            lambda: self.edit("flow", kind="place", strips=[self.track.ref], mode="object"),
            lambda: self.set(self.track, "placement/azimuth_deg", "-110"),
            lambda: self.edit(
                "flow", kind="send", strips=[self.track.ref], bus=self.bus.ref, level_db=-9
            ),
            lambda: self.set(self.track, f"sends/{self.bus.ref}/tap", "pre"),
            lambda: self.set(self.bus, "chain/0/decay_s", "3.5"),
            lambda: self.set(self.bus, "chain/0/wet_only", "off"),
            lambda: self.edit(
                "flow", kind="add_processor", strip=self.track.ref, processor="basics"
            ),
            lambda: self.edit("flow", kind="route", strips=[self.track.ref], to=self.bus.ref),
            lambda: self.edit("flow", kind="rename", strip=self.track.ref, name="Far gull"),
            lambda: self.edit("flow", kind="note", strip=self.track.ref, note="Wind in it"),
            lambda: self.set(self.track, "colour", "cyan"),
            lambda: self.set(self.track, "resting", "on"),
            lambda: self.set(self.track, "clips/0/start_s", "1.25", workspace="intake"),
            lambda: self.edit("handover", kind="add_target", name="binaural"),
            lambda: self.edit("flow", kind="remove_processor", strip=self.bus.ref, place=0),
            lambda: self.edit("flow", kind="remove_strip", strip=self.bus.ref),
            lambda: self.edit("intake", kind="remove_strip", strip=self.track.ref),
        ):
            response = answer()
            self.assertEqual(response.status_code, 200)
            states.append(self.state())
            self.assertNotEqual(states[-1], states[-2])
        for wanted in reversed(states[:-1]):
            self.assertEqual(self.post("undo").status_code, 200)
            self.assertEqual(self.state(), wanted)
        for wanted in states[1:]:
            self.assertEqual(self.post("redo").status_code, 200)
            self.assertEqual(self.state(), wanted)
        self.assertIn("nothing to do again", self.said(self.post("redo")))
        self.assertContains(self.fragment("history"), "Removed Cave")

    def test_a_new_edit_ends_redo(self) -> None:
        self.set(self.track, "gain_db", "-6")
        self.post("undo")
        self.set(self.track, "gain_db", "-3")
        self.assertIsNone(journal.next_redo(self.mix, self.user))
        self.post("undo")
        self.post("redo")  # what was undone last comes back, not what it took the place of
        self.assertEqual(self.track.gain_db, -3.0)

    def test_setting_what_is_already_so_leaves_no_trace(self) -> None:
        before = self.mix.journal.count()
        self.set(self.track, "gain_db", "0.0")
        self.assertEqual(self.mix.journal.count(), before)

    def test_a_refused_change_changes_nothing(self) -> None:
        self.edit("flow", kind="add_bus", name="Hall", layout="0+2+0")
        hall = self.named("Hall")
        self.edit("flow", kind="route", strips=[self.bus.ref], to=hall.ref)
        before = self.state()
        answer = self.edit("flow", kind="route", strips=[hall.ref], to=self.bus.ref)
        self.assertEqual(answer.status_code, 422)
        self.assertRegex(self.said(answer), "loop, (Cave to Hall to Cave|Hall to Cave to Hall)")
        self.assertEqual(self.state(), before)

    def test_numbers_out_of_range_are_told(self) -> None:
        for field, text, words in (
            ("gain_db", "13", "Gain may be -120 to 12 dB; 13 is outside."),
            ("gain_db", "loud", "Gain is a number in dB, not 'loud'."),
            ("placement/azimuth_deg", "nan", "Azimuth may be"),
            ("shade", "1", "There is no value shade"),
        ):
            answer = self.set(self.track, field, text)
            self.assertEqual(answer.status_code, 422)
            self.assertIn(words, self.said(answer))
        self.assertEqual(read_number("-∞", "Gain", -120, 12, "dB"), -120)
        with self.assertRaises(InputError):
            read_number("1e999", "Gain", -120, 12)


class TwoPeople(WebTest):
    def setUp(self) -> None:
        super().setUp()
        self.track = self.bring_in("gull.wav")
        other = make_user("bo")
        Member.objects.create(mix=self.mix, user=other, role="editor")
        self.bo = self.client_class()
        self.bo.force_login(other)
        self.seen = Mix.objects.get(pk=self.mix.pk).revision

    def test_of_two_who_set_one_value_the_later_wins(self) -> None:
        self.set(self.track, "gain_db", "-9", client=self.bo, seen=self.seen)
        answer = self.set(self.track, "gain_db", "-3", seen=self.seen)
        self.assertEqual(answer.status_code, 200)
        self.assertEqual(self.track.gain_db, -3.0)

    def test_what_a_place_stands_for_now_is_not_changed_by_who_saw_another(self) -> None:
        def chain() -> list[str]:
            track = document_of(Mix.objects.get(pk=self.mix.pk)).find_strip(self.track.ref)
            return [processor.kind for processor in track.chain]

        def edit(seen: int | None = None, client: Any = None, **command: Any) -> Any:
            return self.edit("flow", seen=seen, client=client, strip=self.track.ref, **command)

        for kind in ("basics", "resonator"):
            edit(kind="add_processor", processor=kind)
        path = "chain/0/bypassed"
        for change in (
            {"kind": "add_processor", "processor": "eq"},
            {"kind": "remove_processor", "place": 2},
            {"kind": "move_processor", "place": 0, "to": 1},
            {"kind": "copy_clip", "place": 0, "start_s": 9.0},
        ):
            with self.subTest(change["kind"]):
                seen = Mix.objects.get(pk=self.mix.pk).revision
                self.assertEqual(edit(client=self.bo, **change).status_code, 200)
                before = chain()
                if change["kind"] == "copy_clip":
                    answer = edit(seen, kind="move_clip", place=0, start_s=2.0)
                else:
                    answer = self.set(self.track, path, "on", seen=seen)
                self.assertEqual(answer.status_code, 409)
                self.assertIn("bo changed this in the meantime", self.said(answer))
                self.assertEqual(chain(), before)
        # other numbers of the same processor go side by side
        seen = Mix.objects.get(pk=self.mix.pk).revision
        place = chain().index("basics")
        self.set(self.track, f"chain/{place}/delay_ms", "3", client=self.bo, seen=seen)
        answer = self.set(self.track, f"chain/{place}/low_cut", "on", seen=seen)
        self.assertEqual(answer.status_code, 200)
        track = document_of(Mix.objects.get(pk=self.mix.pk)).find_strip(self.track.ref)
        self.assertEqual((track.chain[place].delay_ms, track.chain[place].low_cut), (3.0, True))

    def test_edits_of_different_things_go_side_by_side(self) -> None:
        self.set(self.track, "gain_db", "-9", client=self.bo, seen=self.seen)
        self.assertEqual(self.set(self.track, "muted", "on", seen=self.seen).status_code, 200)

    def test_undo_does_not_run_over_what_the_other_did_since(self) -> None:
        self.set(self.track, "gain_db", "-3")
        self.set(self.track, "gain_db", "-9", client=self.bo)
        self.assertEqual(self.post("undo").status_code, 409)
        self.assertEqual(self.post("undo", client=self.bo).status_code, 200)
        self.assertEqual(self.track.gain_db, -3.0)

    def test_undo_of_bringing_in_spares_what_the_other_built_on_it(self) -> None:
        self.edit("flow", kind="add_bus", name="Cave", client=self.bo)
        bus = self.named("Cave")
        self.edit(
            "flow", kind="send", strips=[self.track.ref], bus=bus.ref, level_db=-9, client=self.bo
        )
        self.assertEqual(self.post("undo").status_code, 409)
        self.assertIsNotNone(self.document().find_strip(self.track.ref))


class Constraints(WebTest):
    def refused(self, make) -> None:  # type: ignore[no-untyped-def]
        with self.assertRaises(IntegrityError), transaction.atomic():
            make()

    def unreadable(self, what: object) -> None:
        """What is nonsense among values is refused by the core's own model."""
        snapshots.forget()
        with self.assertRaisesRegex(InputError, "does not hang together", msg=what):
            self.document()

    def test_nonsense_rows_are_refused_by_the_database(self) -> None:
        track = self.bring_in("a.wav")
        bus = Strip.objects.create(mix=self.mix, kind="bus", ref="b")
        mine = Strip.objects.filter(mix=self.mix, ref=track.ref)
        source = mine.get()
        Send.objects.create(source=source, bus=bus)
        self.refused(lambda: mine.update(output_bus=source))
        self.refused(lambda: mine.update(output_bus=bus, to_programme=True))
        self.refused(lambda: mine.update(ref="programme"))
        self.refused(lambda: mine.update(ref="b"))
        self.refused(lambda: Send.objects.create(source=source, bus=bus))
        self.refused(lambda: Send.objects.create(source=bus, bus=bus))
        with self.assertRaises(DataError), transaction.atomic():
            mine.update(values={"gain_db": float("nan")})
        kept, clip = source.values, source.clips.get()
        for nonsense in (
            {"gain_db": 13.0},
            {"placement": {"azimuth_deg": 181.0}},
            {"placement": {"mode": "ring"}},
        ):
            mine.update(values=kept | nonsense)
            self.unreadable(nonsense)
        mine.update(values=kept)
        source.clips.update(values=clip.values | {"start_s": -1.0})
        self.unreadable("start_s")
        source.clips.update(values=clip.values)
        Strip.objects.filter(pk=bus.pk).update(values={"name": "B", "layout": ""})
        self.unreadable("layout")
        Strip.objects.filter(pk=bus.pk).update(values={"name": "B", "layout": "0+2+0"})
        snapshots.forget()
        self.assertEqual(self.document().buses[0].layout, "0+2+0")
        with self.assertRaises(RestrictedError):
            AudioFile.objects.all().delete()
        self.refused(lambda: Member.objects.create(mix=self.mix, user=self.user, role="editor"))
