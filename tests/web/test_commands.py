"""Commands through the journal: any sequence undone is the start.

Scripts send them with a token.
"""

import json
import random
from typing import Any

from django.urls import reverse

from metaphon.core.document.mix import Mix as Document
from metaphon.core.edits.command import apply
from metaphon.core.edits.registry import apply_all, read, read_all
from metaphon.core.errors import InputError
from metaphon.core.files.mixdoc import with_files
from metaphon.web.mixes import journal, snapshots
from metaphon.web.mixes.models import AccessToken, Member, Mix, SpaceResponse
from metaphon.web.mixes.recordings import store
from metaphon.web.mixes.unpacking import unpack
from tests.core.test_edits import ALL, EditTest
from tests.sounds import RATE_HZ
from tests.web.base import WebTest, make_user


class CommandTest(WebTest):
    """The mix of the commands' own tests, in the database."""

    def setUp(self) -> None:
        super().setUp()
        self.edits = EditTest()
        self.edits.setUp()
        self.addCleanup(self.edits.doCleanups)
        self.mix = Mix.objects.create(title="Test")
        Member.objects.create(mix=self.mix, user=self.user, role="owner")
        unpack(self.edits.start, self.mix, lambda file: store(self.mix, file, file.name))
        # its recordings serve as responses too
        for audio in self.mix.audio_files.all():
            SpaceResponse.objects.create(
                title=audio.name,
                file=audio.file.name,
                channels=audio.channels,
                seconds=audio.duration_s,
                sample_rate_hz=RATE_HZ,
            )

    def command(self, data: dict[str, Any]) -> dict[str, Any]:
        """A command whose file is a recording of the mix; `after` gives the mix to restore."""
        if "after" in data:
            mix = apply(self.document(), read(data["after"])).model_dump_json()
            return {"kind": data["kind"], "mix": json.loads(mix)}
        file = (
            str(self.document().tracks[0].clips[0].file) if self.document().tracks[0].clips else ""
        )
        if "clips" in data:
            return {**data, "clips": [{**clip, "file": file} for clip in data["clips"]]}
        return {**data, **({"file": file} if "file" in data else {})}

    def read_anew(self) -> Document:
        snapshots.forget()
        return self.document()


class Sequences(CommandTest):
    def test_any_sequence_undone_is_the_start_and_done_again_the_end(self) -> None:
        start = self.document()
        for seed in range(4):
            dice = random.Random(seed)
            states = [self.document()]
            for data in dice.sample(ALL, 25):
                revision = self.mix.revision
                try:
                    journal.apply(self.mix, self.user, read(self.command(data)))
                except InputError:
                    continue
                self.assertEqual(self.document() == states[-1], self.mix.revision == revision, data)
                if self.mix.revision != revision:
                    states.append(self.document())
                    self.assertEqual(
                        self.read_anew(), states[-1], data
                    )  # the rows say what the command made
            self.assertGreater(len(states), 8)
            for wanted in reversed(states[:-1]):
                journal.undo(self.mix, self.user)
                self.assertEqual(self.document(), wanted)
            self.assertEqual(self.read_anew(), start)
            for wanted in states[1:]:
                journal.redo(self.mix, self.user)
                self.assertEqual(self.document(), wanted)
            self.assertEqual(self.read_anew(), states[-1])
            for _ in states[1:]:
                journal.undo(self.mix, self.user)
            self.assertEqual(self.read_anew(), start)

    def test_every_command_writes_what_the_core_makes_of_it(self) -> None:
        for data in ALL:
            command = read(self.command(data))
            before = self.document()
            with self.subTest(data):
                applied = journal.apply(self.mix, self.user, command)
                self.assertEqual(self.read_anew(), applied.after)
                if applied.after != before:
                    journal.undo(self.mix, self.user)
                    self.assertEqual(self.read_anew(), before)

    def test_states_of_the_history_are_those_that_were(self) -> None:
        states = {}
        for data in ALL[:12]:
            journal.apply(self.mix, self.user, read(self.command(data)))
            states[self.mix.revision] = self.document()
        for revision, wanted in states.items():
            self.assertEqual(snapshots.document_at(self.mix, revision), wanted)

    def test_another_process_is_brought_up_to_date_by_the_journal(self) -> None:
        mine = snapshots.snapshot_of(self.mix)
        for data in ALL[:9]:
            journal.apply(self.mix, self.user, read(self.command(data)))
        wanted = self.document()
        snapshots.keep(self.mix, mine)  # as a process has it that has seen nothing of this
        found = snapshots.snapshot_of(Mix.objects.get(pk=self.mix.pk))
        self.assertEqual(found.document, wanted)
        self.assertIs(
            found.document.find_strip("asleep"), mine.document.find_strip("asleep")
        )  # and reads only what changed


class Scripts(WebTest):
    def setUp(self) -> None:
        super().setUp()
        self.track = self.bring_in("gull.wav")
        answer = self.client.post(reverse("make_token"), {"name": "Night shift"})
        self.token = answer.context["token"]
        self.client.logout()

    def send(self, body: object, token: str | None = None) -> Any:
        headers = {"Authorization": f"Bearer {self.token if token is None else token}"}
        return self.client.post(
            self.url("api_edits"), json.dumps(body), "application/json", headers=headers
        )

    def test_a_script_reads_and_edits_a_mix_of_ones_own(self) -> None:
        shown = self.client.get(
            self.url("api_document"), headers={"Authorization": f"Bearer {self.token}"}
        ).json()
        self.assertEqual(shown["document"]["tracks"][0]["id"], self.track.ref)
        commands = [
            {"kind": "set", "strips": [self.track.ref], "path": "gain_db", "value": -6},
            {"kind": "add_bus", "name": "Hall"},
        ]
        answer = self.send({"commands": commands, "seen": shown["revision"]})
        self.assertEqual(
            answer.json(),
            {"revision": shown["revision"] + 1, "edit": "gull: gain -6 dB, and 1 more"},
        )
        offline = with_files(self.document(), lambda file: type(file)(file.name)).model_dump(
            mode="json"
        )
        start = Document.model_validate(shown["document"])
        self.assertEqual(apply_all(start, read_all(commands))[0].model_dump(mode="json"), offline)

    def test_refusals_are_one_sentence(self) -> None:
        rename = {"kind": "rename_mix", "title": "X"}
        self.assertEqual(self.send([rename], token="guess").status_code, 401)
        self.assertEqual(self.client.post(self.url("api_edits")).status_code, 401)
        self.assertEqual(self.client.get(self.url("api_edits")).status_code, 405)
        for body, words in (
            ([], "one at least"),
            ([rename, {"kind": "fly"}], "Command 2"),
            ("x", "Give a list"),
        ):
            answer = self.send(body)
            self.assertEqual(answer.status_code, 422)
            self.assertIn(words, answer.json()["message"])
        foreign = {"kind": "add_track", "name": "Passwords", "file": "/etc/passwd"}
        self.assertIn("is not kept here", self.send([foreign]).json()["message"])
        eve = Mix.objects.create(title="Hers")
        Member.objects.create(mix=eve, user=make_user("eve"), role="owner")
        headers = {"Authorization": f"Bearer {self.token}"}
        self.assertEqual(
            self.client.get(reverse("api_document", args=[eve.pk]), headers=headers).status_code,
            404,
        )
        Member.objects.create(mix=eve, user=self.user, role="listener")
        answer = self.client.post(
            reverse("api_edits", args=[eve.pk]),
            json.dumps([rename]),
            "application/json",
            headers=headers,
        )
        self.assertEqual(
            (answer.status_code, "may listen" in answer.json()["message"]), (403, True)
        )

    def test_somebody_elses_change_is_not_run_over(self) -> None:
        bo = make_user("bo")
        Member.objects.create(mix=self.mix, user=bo, role="editor")
        revision = Mix.objects.get(pk=self.mix.pk).revision
        gain = {"kind": "set", "strips": [self.track.ref], "path": "gain_db"}
        journal.apply(self.mix, bo, read({**gain, "value": -9}))
        self.assertEqual(
            self.send({"commands": [{**gain, "value": -3}], "seen": revision}).status_code, 409
        )

    def test_a_token_is_kept_as_a_digest_and_can_be_taken_away(self) -> None:
        row = AccessToken.objects.get()
        self.assertNotIn(self.token, (row.digest, row.name))
        self.client.force_login(make_user("eve"))
        self.client.post(reverse("forget_token", args=[row.pk]))
        self.assertTrue(AccessToken.objects.exists())
        self.client.force_login(self.user)
        self.client.post(reverse("forget_token", args=[row.pk]))
        self.client.logout()
        self.assertEqual(self.send([{"kind": "rename_mix", "title": "X"}]).status_code, 401)
