"""Programmes beside the mix: heard, rendered, written with positions and read back."""

from dataclasses import replace
from typing import Any
from xml.etree import ElementTree

import numpy as np

from metaphon.core.adm.importing import definition_of, import_file
from metaphon.core.adm.reading import local
from metaphon.core.document.handover import Handover
from metaphon.core.document.parting import parted
from metaphon.core.document.personal import Change, as_alternative, as_personal
from metaphon.core.edits.command import apply
from metaphon.core.edits.registry import read
from metaphon.core.engine.making import Result
from metaphon.core.engine.naming import Names
from metaphon.core.engine.offline import render_to_files, runs_of
from metaphon.core.engine.report import report
from metaphon.core.errors import InputError
from metaphon.core.files.wave_chunks import chunk
from tests.core.test_adm import null_db
from tests.sounds import FolderTest, noise


class AlternativesTest(FolderTest):
    def narrated(self) -> Any:
        """Two narrators with a room, of which the mix has one, over a bed and a horn."""
        for number, (name, channels) in enumerate({"a": 1, "b": 1, "rain": 6, "horn": 1}.items()):
            self.write(f"{name}.wav", noise(channels, 1.5, number))
        sends = [{"bus": "room", "level_db": -10.0}]
        voice: dict[str, Any] = {
            "placement": {"mode": "object", "elevation_deg": 10.0},
            "sends": sends,
        }
        tracks: list[dict[str, Any]] = [
            {"id": "en", "name": "English", "sound": "a.wav", **voice},
            {"id": "nb", "name": "Norsk", "sound": "b.wav", "muted": True, **voice},
            {"id": "rain", "name": "Rain", "sound": "rain.wav", "placement": {"layout": "0+5+0"}},
            {"id": "horn", "name": "Horn", "sound": "horn.wav", **voice},
        ]
        room = {
            "id": "room",
            "name": "Room",
            "layout": "0+5+0",
            "chain": [{"kind": "network_reverb", "decay_s": 0.3}],
        }
        lanes = [
            {"target": "en/gain_db", "points": [{"t_s": 0.2, "value": -6}, {"t_s": 1, "value": 0}]},
            {
                "target": "en/placement/azimuth_deg",
                "points": [{"t_s": 0.0, "value": 160}, {"t_s": 1, "value": -160}],
            },
            {
                "target": "en/sends/room/level_db",
                "points": [{"t_s": 0.0, "value": -20}, {"t_s": 1, "value": -6}],
            },
        ]
        alternatives = {
            "language": "en",
            "varied": [
                {"strip": "en", "choice": "Voice", "least_db": -12, "most_db": 6},
                {"strip": "nb", "choice": "Voice", "azimuth_deg": 30},
                {"strip": "horn", "switched": True},
            ],
            "programmes": [
                {
                    "id": "norsk",
                    "name": "Norsk",
                    "language": "nb",
                    "variations": [
                        {"strip": "en", "heard": "silent"},
                        {"strip": "nb", "heard": "heard"},
                        {"strip": "gone", "heard": "heard"},
                    ],
                },
                {
                    "id": "loud",
                    "name": "Loud",
                    "language": "en",
                    "variations": [{"strip": "en", "gain_db": 5.0}],
                },
            ],
        }
        return self.mix(tracks, buses=[room], automation=lanes, alternatives=alternatives)

    def handed_over(self, mix: Any, **asked: Any) -> list[Result]:
        wanted = Handover(**asked)
        names = Names("T")
        return render_to_files(runs_of(mix, wanted), self.folder / "out", wanted, names)[0]


class Heard(AlternativesTest):
    def test_an_alternative_is_the_mix_edited_so(self) -> None:
        mix = self.narrated()
        by_hand = mix
        for command in (
            {"kind": "set", "strips": ["en"], "path": "muted", "value": True},
            {"kind": "set", "strips": ["nb"], "path": "muted", "value": False},
        ):
            by_hand = apply(by_hand, read(command))
        found = self.rendered(as_alternative(mix, "norsk"), "0+5+0")
        np.testing.assert_array_equal(found, self.rendered(by_hand, "0+5+0"))
        self.assertGreater(null_db(self.rendered(mix, "0+5+0"), found), -20.0)

    def test_louder_counts_in_its_lane_and_in_its_room(self) -> None:
        """5 dB more of all that the narrator is, and of nothing else."""
        mix = self.narrated()
        quiet = as_personal(mix, (Change(strip="horn", heard=False),))
        without = apply(
            quiet, read({"kind": "set", "strips": ["en"], "path": "muted", "value": True})
        )
        rest = self.rendered(without, "0+5+0")
        length = rest.shape[1]  # without a voice that rings the mix ends sooner
        voice = self.rendered(quiet, "0+5+0")[:, :length] - rest
        loud = self.rendered(as_alternative(quiet, "loud"), "0+5+0")[:, :length] - rest
        self.assertLess(null_db(voice * 10 ** (5 / 20), loud), -90.0)

    def test_a_listener_goes_no_further_than_allowed(self) -> None:
        mix = self.narrated()
        far = Change(strip="en", gain_db=12.0, azimuth_deg=90.0)
        within = Change(strip="en", gain_db=6.0)
        self.assertEqual(as_personal(mix, (far,)), as_personal(mix, (within,)))
        self.assertEqual(as_personal(mix, (Change(strip="rain", heard=False),)), mix)
        moved = as_personal(mix, (Change(strip="nb", azimuth_deg=-90.0),))
        self.assertEqual(moved.tracks[1].placement.azimuth_deg, -30.0)

    def test_what_is_gone_is_said(self) -> None:
        with self.assertRaisesRegex(InputError, "no longer in the mix"):
            as_alternative(self.narrated(), "away")


class Parted(AlternativesTest):
    def test_what_varies_has_rooms_of_its_own_and_all_adds_up(self) -> None:
        mix = self.narrated()
        apart, owners = parted(mix)
        self.assertEqual(owners["room+en"], "en")
        same = apart.with_strip(apart.tracks[1].model_copy(update={"muted": True}))
        self.assertLess(null_db(self.rendered(mix, "0+5+0"), self.rendered(same, "0+5+0")), -100.0)

    def test_one_that_feeds_another_is_refused(self) -> None:
        mix = apply(self.narrated(), read({"kind": "add_varied", "strip": "room"}))
        with self.assertRaisesRegex(InputError, "English feeds Room"):
            parted(mix)


class HandedOver(AlternativesTest):
    def test_each_alternative_is_a_file_with_its_own_loudness(self) -> None:
        results = self.handed_over(
            self.narrated(),
            targets=("0+2+0",),
            alternatives=("0+2+0", "0+5+0"),
            level="gain",
            loudness_lufs=-30.0,
        )
        self.assertEqual(
            [one.path.name for one in results],
            [
                "T_0+2+0.wav",
                "T_norsk_0+2+0.wav",
                "T_norsk_0+5+0.wav",
                "T_loud_0+2+0.wav",
                "T_loud_0+5+0.wav",
            ],
        )
        for one in results:
            self.assertAlmostEqual(one.figures.integrated_lufs or 0.0, -30.0, places=1)
        self.assertEqual(len({one.gain_db for one in results}), 5)

    def test_one_file_holds_all_programmes(self) -> None:
        """Elements and attributes by ITU-R BS.2076-2, 5.4 to 5.7 (from memory)."""
        mix = self.narrated()
        (result,) = self.handed_over(mix, adm=True, bits="32f")
        root = ElementTree.fromstring(chunk(result.path, b"axml") or b"")
        told = {
            one.get("audioProgrammeName"): one for one in root.iter() if "Programme" in local(one)
        }
        told.pop(None, None)
        self.assertEqual(list(told), ["Test", "Norsk", "Loud"])
        self.assertEqual(
            [one.get("audioProgrammeLanguage") for one in told.values()], ["en", "nb", "en"]
        )
        objects = {
            one.get("audioObjectName"): one for one in root.iter() if one.get("audioObjectName")
        }
        self.assertEqual(
            set(objects),
            {"Bed 5.1", *(n + r for n in ("English", "Norsk", "Horn") for r in ("", ", Bed 5.1"))},
        )
        voice = objects["English"]
        interaction = next(one for one in voice if local(one) == "audioObjectInteraction")
        self.assertEqual(voice.get("interact"), "1")
        self.assertEqual(
            (interaction.get("gainInteract"), interaction.get("positionInteract")), ("1", "0")
        )
        ranges = {one.get("bound"): one.text for one in interaction}
        self.assertEqual(ranges, {"min": "-12", "max": "6"})
        others = {one.text for one in voice if local(one) == "audioComplementaryObjectIDRef"}
        norsk = {objects[n].get("audioObjectID") for n in ("Norsk", "Norsk, Bed 5.1")}
        self.assertLessEqual(norsk, others)
        (values,) = (one for one in voice if local(one) == "alternativeValueSet")
        self.assertEqual((values[0].text, values[0].get("gainUnit")), ("5", "dB"))
        chosen = {one.text for one in told["Loud"] if local(one) == "alternativeValueSetIDRef"}
        self.assertIn(values.get("alternativeValueSetID"), chosen)

    def test_read_back_every_programme_sounds_as_it_did(self) -> None:
        mix = self.narrated()
        (result,) = self.handed_over(mix, adm=True, bits="32f")
        back, notes = import_file(result.path, self.folder / "back")
        self.assertEqual(notes, ())
        self.assertEqual([one.name for one in back.alternatives.programmes], ["Norsk", "Loud"])
        self.assertEqual([one.language for one in back.alternatives.programmes], ["nb", "en"])
        pairs = zip(("", "norsk", "loud"), ("", "programme_2", "programme_3"), strict=True)
        for own, other in pairs:
            with self.subTest(own):
                wanted = self.rendered(as_alternative(mix, own), "4+7+0")
                found = self.rendered(as_alternative(back, other), "4+7+0")
                self.assertLess(null_db(wanted, found), -80.0)
        english = next(one for one in back.alternatives.varied if one.strip == "english")
        self.assertEqual((english.least_db, english.most_db), (-12.0, 6.0))
        self.assertTrue(english.choice)
        self.assertTrue(
            next(one for one in back.alternatives.varied if one.strip == "horn").switched
        )

    def test_the_verdict_on_a_file_counts_every_programme(self) -> None:
        """The mix itself is as it is asked for; a programme 5 dB louder in one voice is not."""
        mix = self.narrated()
        (result,) = self.handed_over(mix, adm=True, bits="32f")
        own = result.figures
        assert own.integrated_lufs is not None and own.true_peak_dbtp is not None
        asked = Handover(
            adm=True,
            loudness_lufs=round(own.integrated_lufs, 1),
            tolerance_lu=0.1,
            ceiling_dbtp=min(own.true_peak_dbtp + 0.1, 0.0),
        )
        louder = max(one.integrated_lufs or -70.0 for one in result.others)
        self.assertGreater(louder, own.integrated_lufs + 0.3)
        [row] = report(mix, asked, [result], [])["files"]
        self.assertEqual(row["verdict"]["word"], "fail")
        self.assertIn("Loud: ", row["verdict"]["said"])
        [row] = report(mix, asked, [replace(result, others=())], [])["files"]
        self.assertEqual(row["verdict"]["word"], "pass")

    def test_every_programme_says_how_loud_it_is(self) -> None:
        mix = self.narrated()
        (result,) = self.handed_over(mix, adm=True, bits="32f")
        for own, programme in zip(
            ("", "norsk", "loud"), definition_of(result.path).programmes, strict=True
        ):
            with self.subTest(programme.name):
                plain = Handover(targets=("4+7+0",))
                (found,), _ = render_to_files(
                    runs_of(as_alternative(mix, own), plain),
                    self.folder / "plain",
                    plain,
                    Names(f"P{own}"),
                )
                self.assertAlmostEqual(
                    programme.loudness.integrated_lufs or 0.0,
                    found.figures.integrated_lufs or 1.0,
                    places=2,
                )
