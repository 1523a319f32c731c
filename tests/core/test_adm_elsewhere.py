"""Files with an audio definition: ours out and back, and those that others write.

The texts are written here from ITU-R BS.2076-2, not by the project's own writer.
"""

import struct
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import soundfile

from metaphon.core.adm.importing import import_file
from metaphon.core.adm.scene_norms import to_sn3d
from metaphon.core.document.handover import Handover
from metaphon.core.engine.naming import Names
from metaphon.core.engine.offline import render_to_files, runs_of
from metaphon.core.files.wave_chunks import add_chunks
from metaphon.core.spatial.ambisonics import encode
from tests.sounds import RATE_HZ, FolderTest, noise

TARGETS = ("0+5+0", "4+7+0", "scene3", "binaural")
SECONDS = 2.0
MOVES = {
    "azimuth_deg": (-60.0, 150.0),
    "elevation_deg": (0.0, 60.0),
    "distance": (1.0, 0.3),
    "extent_deg": (0.0, 120.0),
    "divergence": (0.0, 0.8),
    "diffuseness": (0.0, 0.7),
    "x": (-0.8, 0.8),
    "y": (1.0, -0.6),
    "z": (0.0, 0.9),
    "extent_x": (0.0, 0.6),
    "pair_deg": (20.0, 120.0),
}


def placements() -> Iterator[tuple[str, dict[str, Any]]]:
    """Every kind of placement that the interface can make, each setting away from its default."""
    sphere = {"mode": "object", "azimuth_deg": 40.0, "elevation_deg": 20.0}
    cube = {"mode": "object", "coordinates": "cube", "x": 0.5, "y": 0.6, "z": 0.3}
    for name, value in (
        ("distance", 0.4),
        ("extent_deg", 60.0),
        ("extent_height_deg", 90.0),
        ("divergence", 0.5),
        ("divergence_range_deg", 20.0),
        ("diffuseness", 0.5),
        ("snap", True),
        ("excluded", ("rear",)),
        ("importance", 5),
    ):
        more = {"divergence": 0.5} if name == "divergence_range_deg" else {}
        yield f"object, {name}", {**sphere, **more, name: value}
    yield "object, as deep as wide", {**sphere, "extent_deg": 60.0, "extent_depth": 0.6}
    yield "object, on the sphere", {**sphere, "distance": 0.4, "on_sphere": True}
    yield "object, far off", {**sphere, "distance": 4.0, "level_db_per_doubling": 6.0, "air": True}
    yield "room", cube
    for name, value in (("extent_x", 0.5), ("divergence", 0.5), ("snap", True)):
        yield f"room, {name}", {**cube, name: value}
    yield "room, range", {**cube, "divergence": 0.5, "divergence_range_deg": 30.0}
    yield "room, on the sphere", {**cube, "on_sphere": True}
    yield "room, above kept out of", {**cube, "excluded": ("above",)}
    yield "scene", {"mode": "scene", "azimuth_deg": 30.0, "roll_deg": 10.0}
    yield "bed", {"mode": "bed", "layout": "4+5+0", "azimuth_deg": 60.0}


class Back(FolderTest):
    def null_db(self, mix: Any, targets: Sequence[str] = TARGETS) -> dict[str, float]:
        """How far a mix brought back from its own file is from itself, in dB below it."""
        asked = Handover(adm=True, bits="32f")
        [made], _ = render_to_files(runs_of(mix, asked), self.folder / "a", asked, Names("T"))
        back, self.notes = import_file(made.path, self.folder / "back")
        found = {}
        for target in targets:
            one, other = self.rendered(mix, target), self.rendered(back, target)
            frames = min(one.shape[1], other.shape[1])
            off = np.abs(one[:, :frames] - other[:, :frames]).max() / np.abs(one).max()
            found[target] = float(20 * np.log10(off + 1e-12))
        return found

    def test_every_placement_comes_back_as_it_was(self) -> None:
        for channels in (1, 2):
            self.write(f"{channels}.wav", noise(channels, SECONDS))
        self.write("4.wav", noise(4, SECONDS))
        for name, placement in placements():
            for channels in (4,) if name == "scene" else (1, 2) if name != "bed" else (1,):
                track = {"sound": f"{channels}.wav", "placement": placement, "gain_db": -3.0}
                for target, null_db in self.null_db(self.mix([track])).items():
                    with self.subTest(placement=name, channels=channels, target=target):
                        # a head turns a delay by steps of a 32nd of a sample
                        self.assertLess(null_db, -55.0 if target == "binaural" else -80.0)
                self.assertEqual([one for one in self.notes if "honoured" in one], [])

    def test_what_moves_comes_back_as_it_moved(self) -> None:
        """Straight moves from the first sample to the last, and steps."""
        self.write("2.wav", noise(2, SECONDS))
        self.write("1.wav", noise(1, SECONDS))
        for name, (first, last) in MOVES.items():
            in_room = name in ("x", "y", "z", "extent_x")
            place = {"mode": "object", "coordinates": "cube" if in_room else "sphere"}
            points = [{"t_s": 0.0, "value": first}, {"t_s": SECONDS, "value": last}]
            step = [{"t_s": 0.0, "value": first, "curve": "hold"}, {"t_s": 0.7, "value": last}]
            for listed in (points, step):
                mix = self.mix(
                    [{"sound": "2.wav" if name == "pair_deg" else "1.wav", "placement": place}],
                    automation=[{"target": f"t0/placement/{name}", "points": listed}],
                )
                for target, null_db in self.null_db(mix, ("0+5+0", "4+7+0", "binaural")).items():
                    with self.subTest(moves=name, steps=listed is step, target=target):
                        # a head takes what is said to a millionth for a little wider
                        self.assertLess(null_db, -50.0 if target == "binaural" else -80.0)

    def test_a_move_over_the_whole_mix_is_written_to_its_end(self) -> None:
        self.write("1.wav", noise(1, SECONDS))
        points = [{"t_s": 0.0, "value": 0.0}, {"t_s": SECONDS, "value": 170.0}]
        mix = self.mix(
            [{"sound": "1.wav", "placement": {"mode": "object"}}],
            automation=[{"target": "t0/placement/azimuth_deg", "points": points}],
        )
        asked = Handover(adm=True)
        [made], _ = render_to_files(runs_of(mix, asked), self.folder / "a", asked, Names("T"))
        assert made.output.contents
        [path] = made.output.contents.definition.elements[0].paths
        self.assertAlmostEqual(path.values[0, -1], 170.0, places=3)
        # blocks are so close that gains may run straight between them (within 0.1 dB)
        self.assertLess(np.abs(np.diff(path.values[0])).max(), 6.01)


TYPES = {"bed": "0001", "object": "0003", "scene": "0004"}
WORDS = {"0001": "DirectSpeakers", "0003": "Objects", "0004": "HOA"}


class Elsewhere(FolderTest):
    """Files by hand. A channel of the file is 0.1 times its number, all the time."""

    FRAMES = 2 * RATE_HZ

    def file(
        self,
        objects: str,
        channels: Sequence[tuple[str, str]],
        case: str = "lower",
        sound: np.ndarray | None = None,
    ) -> Path:
        """A BW64 file: the text of its objects, and the kind and blocks of each channel."""
        formats, uids, rows = "", "", b""
        for n, (kind, blocks) in enumerate(channels, start=1):
            label = TYPES[kind]
            channel = f"AC_{label}{0x100A + n:04x}"
            if case == "upper":
                channel = channel.upper()
            pack = f"AP_{label}100a"
            formats += (
                f'<audioChannelFormat audioChannelFormatID="{channel}" typeLabel="{label}" '
                f'typeDefinition="{WORDS[label]}">{blocks}</audioChannelFormat>'
            )
            uid = f"ATU_0000000{n}"
            uids += (
                f'<audioTrackUID UID="{uid}"><audioChannelFormatIDRef>{channel.lower()}'
                f"</audioChannelFormatIDRef><audioPackFormatIDRef>{pack}</audioPackFormatIDRef>"
                f"</audioTrackUID>"
            )
            row = uid.encode(), f"{channel}_00".encode(), pack.upper().encode()
            rows += struct.pack("<H12s14s11sx", n, *row)
        packs = "".join(
            f'<audioPackFormat audioPackFormatID="AP_{label}100a" typeLabel="{label}" '
            f'typeDefinition="{WORDS[label]}">{self.pack}</audioPackFormat>'
            for label in dict.fromkeys(TYPES[kind] for kind, _ in channels)
        )
        text = (
            '<?xml version="1.0" encoding="UTF-8"?><ebuCoreMain><coreMetadata><format>'
            '<audioFormatExtended version="ITU-R_BS.2076-2">'
            '<audioProgramme audioProgrammeID="APR_1001" audioProgrammeName="P">'
            "<audioContentIDRef>ACO_1001</audioContentIDRef></audioProgramme>"
            '<audioContent audioContentID="ACO_1001" audioContentName="C">'
            "<audioObjectIDRef>AO_1001</audioObjectIDRef></audioContent>"
            f"{objects}{packs}{formats}{uids}</audioFormatExtended></format></coreMetadata>"
            "</ebuCoreMain>"
        )
        path = self.folder / "elsewhere.wav"
        if sound is None:
            sound = np.repeat(0.1 * np.arange(1, len(channels) + 1)[:, None], self.FRAMES, axis=1)
        soundfile.write(str(path), sound.T, RATE_HZ, subtype="FLOAT", format="WAV")
        table = struct.pack("<HH", len(channels), len(channels)) + rows
        add_chunks(path, {b"axml": text.encode(), b"chna": table})
        return path

    pack = ""

    def object(self, inner: str = "", tracks: int = 1, **attributes: str) -> str:
        said = "".join(f' {name}="{value}"' for name, value in attributes.items())
        refs = "".join(
            f"<audioTrackUIDRef>ATU_0000000{n}</audioTrackUIDRef>" for n in range(1, tracks + 1)
        )
        return (
            f'<audioObject audioObjectID="AO_1001" audioObjectName="O"{said}>{refs}{inner}'
            "</audioObject>"
        )

    def block(self, inner: str = "", azimuth: float = 0.0, **attributes: str) -> str:
        said = "".join(f' {name}="{value}"' for name, value in attributes.items())
        return (
            f'<audioBlockFormat audioBlockFormatID="AB_00031001_00000001"{said}>'
            f'<position coordinate="azimuth">{azimuth}</position>'
            '<position coordinate="elevation">0</position>'
            f'<position coordinate="distance">1</position>{inner}</audioBlockFormat>'
        )

    def brought(self, path: Path) -> Any:
        mix, self.notes = import_file(path, self.folder / "in")
        return mix

    def heard(self, path: Path, target: str = "0+5+0") -> np.ndarray:
        sound = self.rendered(self.brought(path), target)
        return sound[:, : self.FRAMES]

    def test_gains_of_blocks_in_db_and_as_amplitudes(self) -> None:
        for gain, wanted in (
            ("<gain>0.5</gain>", 0.5),
            ('<gain gainUnit="dB">-6.0206</gain>', 0.5),
            ('<gain gainUnit="dB">-inf</gain>', 0.0),
            ("<gain>0</gain>", 0.0),
            ('<gain gainUnit="dB">20</gain>', 10.0),
        ):
            sound = self.heard(self.file(self.object(), [("object", self.block(gain))]))
            with self.subTest(gain=gain):
                most = 10 ** (12 / 20) if wanted > 4 else wanted  # a fader goes up to 12 dB
                self.assertAlmostEqual(sound[2, 48000], 0.1 * most, places=4)

    def test_gains_of_objects_and_of_those_that_they_are_within(self) -> None:
        for own, wanted in (
            ('<gain gainUnit="dB">-6.0206</gain>', 0.5),
            ('<gain gainUnit="dB">18</gain>', 10 ** (18 / 20)),
            ('<gain gainUnit="dB">-inf</gain>', 0.0),
        ):
            path = self.file(self.object(own), [("object", self.block())])
            mix = self.brought(path)
            if not wanted:
                self.assertTrue(mix.tracks[0].resting)
                continue
            self.assertAlmostEqual(self.rendered(mix, "0+5+0")[2, 48000], 0.1 * wanted, places=4)
        outer = (
            '<audioObject audioObjectID="AO_1001" audioObjectName="Outer">'
            "<audioObjectIDRef>AO_1002</audioObjectIDRef>{}</audioObject>"
        )
        inner = self.object('<gain gainUnit="dB">-6.0206</gain>').replace("AO_1001", "AO_1002")
        moved = '<gain>0.5</gain><positionOffset coordinate="azimuth">30</positionOffset>'
        sound = self.heard(self.file(outer.format(moved) + inner, [("object", self.block())]))
        self.assertAlmostEqual(sound[0, 48000], 0.1 * 0.25, places=4)  # at 30 degrees, a quarter
        muted = self.brought(
            self.file(outer.format("<mute>1</mute>") + inner, [("object", self.block())])
        )
        self.assertTrue(muted.tracks[0].resting)

    def test_a_start_is_counted_once_and_a_duration_is_kept(self) -> None:
        half = self.object(start="00:00:00.50000", duration="00:00:01.00000")
        sound = self.heard(self.file(half, [("object", self.block())]))[2]
        self.assertAlmostEqual(sound[0], 0.0)
        np.testing.assert_allclose(sound[24010:71990], 0.1, atol=1e-4)
        np.testing.assert_allclose(sound[72010:], 0.0, atol=1e-6)
        # a ramp in the file is where it was, not half a second later
        ramp = np.linspace(0.0, 0.9, self.FRAMES)
        path = self.file(half, [("object", self.block())], sound=ramp[None])
        self.assertAlmostEqual(self.heard(path)[2, 48000], ramp[48000], places=3)

    def test_moves_count_from_the_start_of_their_object(self) -> None:
        blocks = self.block(rtime="00:00:00.00000", duration="00:00:00.50000")
        blocks += self.block(azimuth=30.0, rtime="00:00:00.50000", duration="00:00:00.50000")
        path = self.file(self.object(start="00:00:00.50000"), [("object", blocks)])
        sound = self.heard(path)
        self.assertAlmostEqual(sound[2, 47000], 0.1, places=3)  # in front up to 1.0 s
        self.assertAlmostEqual(sound[0, 72100], 0.1, places=3)  # at the left from 1.5 s on

    def test_jumps_and_the_time_they_take(self) -> None:
        jump = "<jumpPosition>1</jumpPosition>"
        slow = '<jumpPosition interpolationLength="0.2">1</jumpPosition>'
        for said, at, moved in ((jump, 48480, True), (slow, 48480, False), (slow, 58000, True)):
            blocks = self.block(rtime="00:00:00.00000", duration="00:00:01.00000")
            blocks += self.block(said, 30.0, rtime="00:00:01.00000", duration="00:00:01.00000")
            sound = self.heard(self.file(self.object(), [("object", blocks)]))
            with self.subTest(said=said, at=at):
                self.assertEqual(sound[0, at] > 0.099, moved)

    def test_identifiers_in_either_case(self) -> None:
        for case in ("lower", "upper"):
            path = self.file(self.object(), [("object", self.block(azimuth=30.0))], case)
            self.assertAlmostEqual(self.heard(path)[0, 48000], 0.1, places=4)

    def test_gains_of_beds_and_their_low_channels(self) -> None:
        def speaker(label: str, azimuth: float, more: str = "") -> str:
            return (
                '<audioBlockFormat audioBlockFormatID="AB_00011001_00000001">'
                f"<speakerLabel>{label}</speakerLabel>"
                f'<position coordinate="azimuth">{azimuth}</position>'
                f'<position coordinate="elevation">0</position>{more}</audioBlockFormat>'
            )

        low = '<frequency typeDefinition="lowPass">120</frequency>'
        path = self.file(
            self.object(tracks=3),
            [
                ("bed", speaker("M+030", 30.0, '<gain gainUnit="dB">-6.0206</gain>')),
                ("bed", speaker("M-030", -30.0)),
                ("bed", speaker("SubLeft", 45.0) + low),
            ],
        )
        heard = self.heard(path)[:, 48000]
        np.testing.assert_allclose(heard, [0.05, 0.2, 0.0, 0.3, 0.0, 0.0], atol=1e-4)

    def test_scenes_of_every_normalisation(self) -> None:
        """Against the harmonics themselves: N3D by sqrt(2n + 1), FuMa by their greatest value."""
        order = 3
        z = np.linspace(-1, 1, 181)
        azimuth, elevation = np.meshgrid(np.arange(-180, 180, 2), np.degrees(np.arcsin(z)))
        harmonics = np.abs(encode(azimuth.ravel(), elevation.ravel(), order)).max(axis=0)
        fuma = to_sn3d("FuMa", 16)
        assert fuma is not None
        np.testing.assert_allclose(fuma[1:], harmonics[1:], atol=2e-3)
        self.assertAlmostEqual(fuma[0], np.sqrt(2.0))
        self.assertIsNone(to_sn3d("other", 4))
        for norm, scale in (("N3D", 1 / np.sqrt(3)), ("SN3D", 1.0), ("FuMa", 1.0)):
            blocks = [
                '<audioBlockFormat audioBlockFormatID="AB_00041001_00000001">'
                f"<order>{int(np.sqrt(n))}</order><degree>{degree}</degree>"
                f"<normalization>{norm}</normalization></audioBlockFormat>"
                for n, degree in enumerate((0, -1, 0, 1))
            ]
            path = self.file(self.object(tracks=4), [("scene", one) for one in blocks])
            heard = self.heard(path, "scene1")[:, 48000]
            front = np.sqrt(2.0) if norm == "FuMa" else 1.0
            wanted = [0.1 * front, *(0.1 * n * scale for n in (2, 3, 4))]
            with self.subTest(norm=norm):
                np.testing.assert_allclose(heard, wanted, atol=1e-4)

    def test_divergence_in_the_room_has_its_range(self) -> None:
        room = (
            '<audioBlockFormat audioBlockFormatID="AB_00031001_00000001"><cartesian>1</cartesian>'
            '<position coordinate="X">0</position><position coordinate="Y">1</position>'
            '<position coordinate="Z">0</position>'
            '<objectDivergence positionRange="0.25">0.5</objectDivergence></audioBlockFormat>'
        )
        mix = self.brought(self.file(self.object(), [("object", room)]))
        self.assertAlmostEqual(mix.tracks[0].placement.divergence_range_deg, 22.5)

    def test_what_is_not_honoured_is_told_by_name(self) -> None:
        for inner in (
            "<headLocked>1</headLocked>",
            "<screenRef>1</screenRef>",
            '<zoneExclusion><zone minX="-0.3" maxX="0.3" minY="-1" maxY="1" minZ="-1" maxZ="1"/>'
            "</zoneExclusion>",
            "<somethingNew>7</somethingNew>",
        ):
            self.brought(self.file(self.object(), [("object", self.block(inner))]))
            with self.subTest(inner=inner):
                self.assertTrue(any("not honoured" in note for note in self.notes), self.notes)
        self.pack = "<nfcRefDist>2</nfcRefDist>"
        block = (
            '<audioBlockFormat audioBlockFormatID="AB_00041001_00000001"><order>0</order>'
            "<degree>0</degree></audioBlockFormat>"
        )
        harmonics = [
            ("scene", block.replace("<order>0", f"<order>{n}").replace("<degree>0", f"<degree>{m}"))
            for n, m in ((0, 0), (1, -1), (1, 0), (1, 1))
        ]
        self.brought(self.file(self.object(tracks=4), harmonics))
        self.assertTrue(any("nfcRefDist" in note for note in self.notes))
