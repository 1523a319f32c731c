"""What is found gone through one by one."""

from django.test import Client

from metaphon.web.jobs.tasks import survey_mix
from metaphon.web.mixes.models import Member
from tests.sounds import noise
from tests.web.base import WebTest, make_mix, make_user


class OneByOne(WebTest):
    def setUp(self) -> None:
        super().setUp()
        for number, name in enumerate(("a.wav", "b.wav")):
            self.bring_in(name, noise(1, 0.3, number))
        for name in ("One", "Two"):
            self.edit("flow", kind="add_bus", name=name, layout="0+2+0")  # that nothing feeds

    def shown(self) -> str:
        return self.fragment("findings:steps").content.decode()

    def test_each_is_mended_or_passed_over_and_it_ends(self) -> None:
        self.assertNotIn("One by one", self.shown())
        begun = self.post("findings:begin_steps")
        self.assertContains(begun, "1 of 2")
        self.assertContains(begun, "Nothing feeds the bus One")
        mended = self.post("findings:mend_step", way="0")
        self.assertContains(mended, "Mended: Put to rest One")
        self.assertContains(mended, "1 of 2")
        self.assertIn("mix-changed", mended["HX-Trigger"])
        self.assertIn("Mended", self.shown())  # on the next page too
        self.assertContains(self.post("findings:go_on"), "Nothing feeds the bus Two")
        self.assertContains(self.post("findings:go_on"), "Listening to the mix")
        survey_mix(mix_id=self.mix.pk)
        self.assertIn("That is all of it.", self.shown())
        self.assertIn("no longer", self.said(self.post("findings:mend_step", way="0")))
        self.post("findings:leave_steps")
        self.assertNotIn("One by one", self.shown())
        self.assertIn("nothing now", self.said(self.post("findings:mend_step", way="0")))
        self.post("undo")
        self.assertFalse(any(bus.resting for bus in self.document().buses))

    def test_what_was_mended_elsewhere_is_passed_by(self) -> None:
        self.post("findings:begin_steps")
        one = next(bus for bus in self.document().buses if bus.name == "One")
        self.edit("flow", kind="set", strips=[one.id], path="resting", value=True)
        self.assertIn("Nothing feeds the bus Two", self.shown())
        self.assertIn("1 of 1", self.shown())

    def test_it_belongs_to_one_mix_and_to_who_may_mend(self) -> None:
        self.post("findings:begin_steps")
        self.mix, before = make_mix(self.user, "Other"), self.mix
        self.assertNotIn("One by one", self.shown())
        self.assertIn("nothing here", self.said(self.post("findings:begin_steps")))
        self.mix, listener = before, Client()
        user = make_user("bo")
        Member.objects.create(mix=self.mix, user=user, role="listener")
        listener.force_login(user)
        refused = self.post("findings:begin_steps", client=listener)
        self.assertIn("nothing here", self.said(refused))
