"""Clips and markers for other programs: read by the library of the format, and back unchanged."""

import csv
import io

import opentimelineio as otio

from metaphon.core.document.mix import Mix
from metaphon.core.edits.command import apply
from metaphon.core.edits.markers import AddMarker
from metaphon.core.edits.structure import AddTrack
from metaphon.core.edits.whole_mix import SetStartTime
from metaphon.core.errors import InputError
from metaphon.core.files.edit_exchange import (
    Exchange,
    Look,
    Placed,
    Recording,
    clips_table,
    markers_table,
    placed_of,
    taken,
    to_timeline,
)
from metaphon.core.files.exchange_update import Update, update_from
from tests.sounds import FolderTest, noise

_SECOND = otio.opentime.TimeRange(
    otio.opentime.RationalTime(0, 48000), otio.opentime.RationalTime(48000, 48000)
)


class Exchanged(FolderTest):
    def setUp(self) -> None:
        super().setUp()
        for name in ("bell.wav", "=gull.wav"):
            self.write(name, noise(1, 3.0))
        mix = self.mix([{"sound": "bell.wav"}, {"sound": "=gull.wav"}])
        file = mix.tracks[0].clips[0].file
        clips = [
            {"file": file, "start_s": 0.5, "in_s": 0.25, "length_s": 1.0, "fade_in_s": 0.1},
            {"file": file, "start_s": 1.25, "length_s": 0.5, "gain_db": -6.0},  # overlaps
            {"file": file, "start_s": 4.0},
        ]
        tracks = (
            type(mix.tracks[0]).model_validate({**mix.tracks[0].model_dump(), "clips": clips}),
            mix.tracks[1],
        )
        mix = mix.model_copy(update={"tracks": tracks})
        self.document = apply(mix, AddMarker(at_s=1.5, name="Lamp, lit"))
        self.recordings = {
            track.clips[0].file: Recording(track.clips[0].file.name, 3.0)
            for track in self.document.tracks
        }

    def test_the_library_of_the_format_finds_everything_where_it_is(self) -> None:
        timeline = otio.adapters.read_from_string(
            to_timeline(self.document, self.recordings), "otio_json"
        )
        found = [
            (
                clip.transformed_time_range(
                    clip.trimmed_range(), timeline.tracks
                ).start_time.to_seconds(),
                clip.trimmed_range().start_time.to_seconds(),
                clip.duration().to_seconds(),
                clip.media_reference.target_url,
            )
            for clip in timeline.find_clips()
        ]
        self.assertEqual(
            sorted(found),
            [
                (0.0, 0.0, 3.0, "=gull.wav"),
                (0.5, 0.25, 1.0, "bell.wav"),
                (1.25, 0.0, 0.5, "bell.wav"),
                (4.0, 0.0, 3.0, "bell.wav"),
            ],
        )
        [marker] = timeline.tracks.markers
        self.assertEqual(
            (marker.name, marker.marked_range.start_time.to_seconds()), ("Lamp, lit", 1.5)
        )

    def test_what_is_given_is_taken_again(self) -> None:
        wanted = placed_of(self.document, self.recordings)
        for text in (
            to_timeline(self.document, self.recordings),
            clips_table(self.document, self.recordings),
        ):
            found = taken(text, "edit")
            self.assertEqual(sorted(found.clips, key=str), sorted(wanted, key=str))
        [marker] = taken(markers_table(self.document), "m").markers
        self.assertEqual((marker.at_s, marker.name), (1.5, "Lamp, lit"))

    def test_colour_and_note_of_tracks_are_kept(self) -> None:
        one, two = self.document.tracks
        looks = {one.name: Look("cyan", 'Wind; "ask", then\ncut'), two.name: Look("none", "=1+1")}
        tracks = tuple(
            track.model_copy(update={"colour": look.colour, "note": look.note})
            for track, look in zip((one, two), looks.values(), strict=True)
        )
        mix = self.document.model_copy(update={"tracks": tracks})
        timeline = to_timeline(mix, self.recordings)
        for text in (timeline, clips_table(mix, self.recordings)):
            self.assertEqual(taken(text, "edit").looks, looks)
        told = otio.adapters.read_from_string(timeline, "otio_json")
        named = {track.name: track.color for track in told.tracks}
        self.assertEqual(named[one.name].name, "Cyan")
        self.assertIsNone(named[two.name])

    def test_a_colour_from_elsewhere_is_the_nearest_of_ours(self) -> None:
        timeline = otio.schema.Timeline("t")
        for name, colour in (("a", (0.9, 0.1, 0.05)), ("b", (0.05, 0.1, 0.8))):
            track = otio.schema.Track(name, kind=otio.schema.TrackKind.Audio)
            track.color = otio.core.Color(*colour, 1.0, "")
            clip = otio.schema.Clip("x", source_range=_SECOND)
            track.append(clip)
            timeline.tracks.append(track)
        looks = taken(timeline.to_json_string(), "t").looks
        self.assertEqual([looks[name].colour for name in "ab"], ["red", "blue"])

    def test_tables_as_people_write_them(self) -> None:
        text = '\ufeffTrack,Recording,Start_s\nBells,bell.wav,"1,5"\n,gull.wav,2\n'
        self.assertEqual(
            taken(text, "t").clips,
            (Placed("Bells", "bell.wav", 1.5), Placed("gull", "gull.wav", 2.0)),
        )

    def test_what_cannot_be_read_is_said_in_a_sentence(self) -> None:
        for text, said in (
            ("", "names no clip"),
            ("a,b\n1,2\n", "names no clip"),
            ("{", "OpenTimelineIO document that can be read"),
            ("{}", "no timeline"),
            (otio.schema.Clip("x").to_json_string(), "no timeline"),
            ("at_s,name\nsoon,Bell\n", "Line 2 of t"),
            ("recording,start_s\nbell.wav,-1\n", "Line 2 of t"),
            ("recording,start_s\nbell.wav,nan\n", "Line 2 of t"),
        ):
            with self.assertRaisesRegex(InputError, said):
                taken(text, "t")
        loud = Exchange((Placed("T", "bell.wav", 0.0, gain_db=900.0),))
        with self.assertRaisesRegex(InputError, "none may have"):
            self.update(loud)

    def update(self, told: Exchange) -> Update:
        new_tracks = {file: AddTrack(name="", file=file) for file in self.recordings}
        return update_from(self.document, told, self.recordings, new_tracks)

    def taken_in(self, text: str) -> Mix:
        mix = self.document
        for command in self.update(taken(text, "edit", mix)).commands:
            mix = apply(mix, command)
        return mix

    def test_what_is_there_is_updated_and_nothing_doubled(self) -> None:
        """Somebody else moves one clip, shortens another, sets a new one and moves a marker."""
        for text in (
            to_timeline(self.document, self.recordings),
            clips_table(self.document, self.recordings),
            markers_table(self.document),
        ):
            self.assertEqual(self.update(taken(text, "edit")).commands, [])
        rows = list(csv.DictReader(io.StringIO(clips_table(self.document, self.recordings))))
        first, second, third = (row for row in rows if row["recording"] == "bell.wav")
        first["start_s"], second["length_s"] = "0.75", "0.25"
        rows.append({**third, "clip": "", "track_id": "", "start_s": "9"})
        before = self.document.tracks[0].clips
        for leave_out in ((), ("clip", "track_id", "gain_db", "fade_in_s", "fade_out_s")):
            text = io.StringIO()
            columns = [name for name in rows[0] if name not in leave_out]
            table = csv.DictWriter(text, columns, extrasaction="ignore")
            table.writeheader()
            table.writerows(rows)
            mix = self.taken_in(text.getvalue())
            clips = mix.tracks[0].clips
            self.assertEqual(len(mix.tracks), 2)
            self.assertEqual([one.start_s for one in clips], [0.75, 1.25, 4.0, 9.0])
            self.assertEqual(clips[1].length_s, 0.25)
            self.assertEqual((clips[0].fade_in_s, clips[1].gain_db), (0.1, -6.0))  # kept
            self.assertEqual(clips[2], before[2])
        lines = self.update(taken(text.getvalue(), "edit")).lines
        self.assertEqual(
            lines,
            [
                "t0: clip of bell.wav, start 0.500 s to 0.750 s",
                "t0: clip of bell.wav, length 0.500 s to 0.250 s",
                "t0: 1 clip added",
            ],
        )
        [marker] = self.taken_in('at_s,name\n2.5,"Lamp, lit"\n').markers
        self.assertEqual((marker.at_s, marker.id), (2.5, self.document.markers[0].id))

    def test_times_by_timecode_of_a_mix_that_begins_at_ten(self) -> None:
        self.document = apply(self.document, SetStartTime(start="10:00:00:00", frame_rate="25"))
        timeline = otio.adapters.read_from_string(
            to_timeline(self.document, self.recordings), "otio_json"
        )
        self.assertEqual(timeline.global_start_time.to_seconds(), 36000.0)
        self.assertIn("10:00:01:12", markers_table(self.document))  # 1.5 s: 37.5 frames
        mix = self.taken_in("timecode,name\n10:00:04:05,Horn\n")
        self.assertEqual(mix.markers[1].at_s, 4.2)
        with self.assertRaisesRegex(InputError, "Line 2"):
            self.taken_in("timecode,name\n09:00:00:00,Horn\n")

    def test_a_recording_that_is_not_there_is_named(self) -> None:
        told = Exchange((Placed("T", "bell.wav", 7.0), Placed("T", "owl.wav", 0.0)))
        update = self.update(told)
        self.assertEqual(update.missing, ["owl.wav"])
        self.assertEqual(update.lines, ["New track T, 1 clip"])
