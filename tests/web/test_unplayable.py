"""An edit that nothing could play is refused with its reason, and the mix stays as it was."""

from tests.sounds import noise
from tests.web.base import WebTest


class Unplayable(WebTest):
    def place(self, track: object, mode: str) -> object:
        ref = getattr(track, "ref", "")
        return self.edit("field", kind="place", strips=[ref], mode=mode)

    def test_a_placement_that_cannot_be(self) -> None:
        track = self.bring_in("rain.wav", noise(6, 0.5))
        before = self.document()
        for mode, reason in (("object", "LFE"), ("scene", "channels")):
            refused = self.place(track, mode)
            self.assertIn(reason, self.said(refused))
            self.assertIn("rain", self.said(refused))
            self.assertEqual(self.document(), before)
        self.assertEqual(self.place(track, "none").status_code, 200)
        self.assertEqual(self.document().tracks[0].placement.mode, "none")

    def test_channels_renamed_under_an_object(self) -> None:
        """What made it an object goes: it would be left as one with an LFE."""
        track = self.bring_in("six.wav", noise(6, 0.5))
        no_lfe = "M+030 M-030 M+000 M+110 M-110 U+000"
        named = {"kind": "set_recording_layout", "strips": [track.ref]}
        self.assertEqual(self.edit("flow", **named, layout=no_lfe).status_code, 200)
        self.assertEqual(self.place(track, "object").status_code, 200)
        refused = self.edit("flow", **named, layout="0+5+0")
        self.assertIn("LFE", self.said(refused))
        self.assertEqual(self.document().tracks[0].layout, no_lfe)
