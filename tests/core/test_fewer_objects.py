"""Objects that lie together told as one: where they are then, and what of them is lost."""

from typing import Any

import numpy as np

from metaphon.core.adm.importing import definition_of
from metaphon.core.document.handover import Handover
from metaphon.core.engine.fewer_objects import fewer_objects
from metaphon.core.engine.naming import Names
from metaphon.core.engine.offline import render_to_files, runs_of
from metaphon.core.errors import InputError
from tests.core.test_adm import null_db
from tests.sounds import FolderTest, noise


class FewerObjects(FolderTest):
    def scattered(self, *azimuths: float, **more: Any) -> Any:
        tracks: list[dict[str, Any]] = []
        for n, azimuth_deg in enumerate(azimuths):
            self.write(f"{n}.wav", noise(1, 2.0, n))
            place = {"mode": "object", "azimuth_deg": azimuth_deg, **more.get(f"t{n}", {})}
            tracks.append({"id": f"t{n}", "sound": f"{n}.wav", "placement": place})
        return self.mix(tracks, automation=more.get("automation", []))

    def test_those_in_one_place_cost_nothing(self) -> None:
        mix = self.scattered(30.0, 30.0, -110.0, -110.0)
        found = fewer_objects(mix, 2)
        self.assertEqual((found.before, len(found.mix.buses)), (4, 2))
        for one in found.objects:
            self.assertEqual((one.mean_deg, one.most_deg), (0.0, 0.0))
        for target in ("0+5+0", "4+7+0", "scene3"):
            wanted, made = self.rendered(mix, target), self.rendered(found.mix, target)
            self.assertLess(null_db(wanted, made), -90.0, target)

    def test_two_are_heard_between_by_their_weights(self) -> None:
        """The middle of equal sounds at 10 and 30 degrees is 20; the louder one draws it."""
        even = fewer_objects(self.scattered(10.0, 30.0, -90.0), 2)
        self.assertEqual([round(one.mean_deg) for one in even.objects], [10, 10, 0])
        mix = self.scattered(10.0, 30.0, -90.0)
        loud = mix.with_strip(mix.tracks[0].model_copy(update={"gain_db": 12.0}))
        found = {one.strip: one for one in fewer_objects(loud, 2).objects}
        self.assertLess(found["t0"].mean_deg, 1.5)
        self.assertGreater(found["t1"].mean_deg, 18.0)
        self.assertLess(found["t0"].off_db or 0.0, (found["t1"].off_db or 0.0) - 10.0)

    def test_importance_counts_as_level_does(self) -> None:
        """Four points are 12 dB."""
        low = {"t1": {"importance": 6}, "t2": {"importance": 6}}
        found = {
            one.strip: one
            for one in fewer_objects(self.scattered(10.0, 30.0, -90.0, **low), 2).objects
        }
        self.assertLess(found["t0"].mean_deg, 1.5)

    def test_what_moves_changes_its_group_without_a_gap(self) -> None:
        """One goes from where the first stands to where the second does."""
        lane = {
            "target": "t2/placement/azimuth_deg",
            "points": [{"t_s": 0.0, "value": 90.0}, {"t_s": 2.0, "value": -90.0}],
        }
        mix = self.scattered(90.0, -90.0, 90.0, automation=[lane])
        found = fewer_objects(mix, 2)
        made = self.rendered(found.mix, "4+7+0")
        wanted = self.rendered(mix, "4+7+0")
        power, own = ((sound**2).sum(axis=0) for sound in (made, wanted))
        steps = np.arange(0, len(own) - 4800, 4800)
        for at in steps:
            ratio = power[at : at + 4800].sum() / own[at : at + 4800].sum()
            self.assertLess(abs(10 * np.log10(ratio)), 1.5, at)
        moved = next(one for one in found.objects if one.strip == "t2")
        self.assertLessEqual(moved.most_deg, 91.0)

    def test_what_cannot_be_grouped_stays_and_counts(self) -> None:
        wide = {"t1": {"diffuseness": 0.5}, "t2": {"snap": True}}
        mix = self.scattered(10.0, 30.0, -90.0, 60.0, **wide)
        found = fewer_objects(mix, 3)
        self.assertEqual({one.strip for one in found.objects}, {"t0", "t3"})
        with self.assertRaisesRegex(InputError, "allow 3 at least"):
            fewer_objects(mix, 2)
        self.assertEqual(fewer_objects(mix, 4).mix, mix)

    def test_several_densities_in_one_handover(self) -> None:
        mix = self.scattered(30.0, 40.0, -110.0, -110.0)
        asked = Handover(adm=True, objects=(2, 3))
        results, _ = render_to_files(runs_of(mix, asked), self.folder / "out", asked, Names("T"))
        self.assertEqual(
            [one.path.name for one in results],
            ["T_adm.wav", "T_objects_2_adm.wav", "T_objects_3_adm.wav"],
        )
        counts = [len(definition_of(one.path).elements) for one in results]
        self.assertEqual(counts, [4, 2, 3])
