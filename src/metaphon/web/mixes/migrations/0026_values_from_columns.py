"""The values of each row become one column; the journal tells how the mix changed, not its rows."""

from collections import defaultdict

from django.db import migrations

from metaphon.core.document.difference import Leaf, find_difference

_TABLES = {  # by the names that the journal has, each with its model now and its way to the mix
    "Group": ("Group", "mix"),
    "Strip": ("Strip", "mix"),
    "Clip": ("Clip", "track__mix"),
    "Send": ("Send", "source__mix"),
    "Processor": ("Processor", "strip__mix"),
    "Placement": ("Placement", "strip__mix"),
    "Automation": ("Lane", "mix"),
    "Target": ("Target", "mix"),
}
_OWNERS = {"Clip": "track_id", "Send": "source_id", "Processor": "strip_id", "Placement": "strip_id"}
_MIX = ("title", "sample_rate_hz", "tempo_bpm", "start_timecode", "frame_rate")
_WHOLE = ("delivery", "alternatives", "markers")
_FOLD = ("centre_db", "surround_db", "height_db", "lfe_db", "surround_shift")
_STRIP = ("name", "colour", "note", "resting", "muted", "soloed", "solo_safe", "gain_db", "layout")
_LFE = ("on", "level_db", "corner_hz")
_SEND = ("level_db", "tap", "muted", "azimuth_deg")
_CLIP = ("start_s", "in_s", "length_s", "gain_db", "fade_in_s", "fade_out_s")
_GROUP = ("name", "moves_gain", "moves_mute", "moves_position")
_APART = {"id", "group", "output", "sends", "clips", "print_of"}
_AT_ONCE = 500


class Rows:
    """The rows of a mix as they were kept, and the mix that they say as plain data."""

    def __init__(self, apps, mix):
        self._models = {
            table: apps.get_model("mixes", model) for table, (model, _) in _TABLES.items()
        }
        self._models["Mix"] = apps.get_model("mixes", "Mix")
        self._files = dict(mix.audio_files.values_list("pk", "file"))
        self._rows = {"Mix": {mix.pk: self._models["Mix"].objects.filter(pk=mix.pk).values()[0]}}
        self._mix_id = mix.pk
        self._of_strip = {table: defaultdict(set) for table in _OWNERS}
        self._strips, self._lanes = {}, {}  # what was made of them and has not changed since
        for table, (_, way) in _TABLES.items():
            self._rows[table] = {}
            for row in self._models[table].objects.filter(**{way: mix.pk}).order_by().values():
                self._put(table, row["id"], row)

    def _put(self, table, key, row):
        held = self._rows[table].get(key)
        for one in (held, row):
            if one is not None:
                self._touch(table, key, one)
        owner = _OWNERS.get(table)
        if owner and held is not None:
            self._of_strip[table][held[owner]].discard(key)
        if row is None:
            self._rows[table].pop(key, None)
            return
        self._rows[table][key] = row
        if owner:
            self._of_strip[table][row[owner]].add(key)

    def _touch(self, table, key, row):
        self._strips.pop(key if table == "Strip" else row.get(_OWNERS.get(table)), None)
        if table == "Automation":
            self._lanes.pop(key, None)

    def take_back(self, changes):
        """Bring the rows to what they were before changes."""
        for change in reversed(changes):
            table, key, before = change["table"], change["id"], change["before"]
            if before is None:
                self._put(table, key, None)
            else:
                held = self._rows[table].get(key) or self._defaults(table)
                self._put(table, key, {**held, **before})

    def _defaults(self, table):
        fields = self._models[table]._meta.concrete_fields
        return {field.attname: field.get_default() for field in fields if not field.primary_key}

    def _ordered(self, table, keys=None):
        rows = self._rows[table]
        found = ((key, rows[key]) for key in (rows if keys is None else keys))
        return sorted(found, key=lambda item: (item[1].get("position", 0), item[0]))

    def mix(self):
        """The mix as plain data; parts that have not changed are the same objects."""
        own = self._rows["Mix"][self._mix_id]
        refs = {key: row["ref"] for key, row in self._rows["Strip"].items()}
        groups = {key: row["ref"] for key, row in self._rows["Group"].items()}
        strips = [
            (row["kind"], self._strip(key, row, refs, groups))
            for key, row in self._ordered("Strip")
        ]
        lanes = sorted(self._rows["Automation"].items(), key=lambda item: item[1]["target"])
        return {
            **{name: own[name] for name in (*_MIX, *_WHOLE)},
            "fold_down": {name: own[f"fold_{name}"] for name in _FOLD},
            "targets": [row["name"] for _, row in self._ordered("Target")],
            "groups": [
                {"id": row["ref"], **{name: row[name] for name in _GROUP}}
                for _, row in sorted(self._rows["Group"].items())
            ],
            "tracks": [strip for kind, strip in strips if kind == "track"],
            "buses": [strip for kind, strip in strips if kind == "bus"],
            "automation": [self._lane(key, row) for key, row in lanes],
        }

    def _lane(self, key, row):
        if key not in self._lanes:
            self._lanes[key] = {"target": row["target"], "points": Leaf(row["points"])}
        return self._lanes[key]

    def _strip(self, key, row, refs, groups):
        if key not in self._strips:
            self._strips[key] = self._made(key, row, refs, groups)
        return self._strips[key]

    def _made(self, key, row, refs, groups):
        [(_, placement)] = self._ordered("Placement", self._of_strip["Placement"][key]) or [
            (0, self._defaults("Placement"))
        ]
        processors = self._ordered("Processor", self._of_strip["Processor"][key])
        strip = {
            "id": row["ref"],
            **{name: row[name] for name in _STRIP},
            "group": groups.get(row["group_id"]),
            "output": "programme" if row["to_programme"] else refs.get(row["output_bus_id"]),
            "lfe": {name: row[f"lfe_{name}"] for name in _LFE},
            "placement": {
                name: value for name, value in placement.items() if name not in ("id", "strip_id")
            },
            "chain": [
                {"kind": one["kind"], "bypassed": one["bypassed"], **one["parameters"]}
                for _, one in processors
            ],
            "sends": [
                {"bus": refs.get(send["bus_id"], ""), **{name: send[name] for name in _SEND}}
                for _, send in self._ordered("Send", self._of_strip["Send"][key])
            ],
        }
        if row["kind"] == "bus":
            return strip
        clips = self._ordered("Clip", self._of_strip["Clip"][key])
        return {
            **strip,
            "print_of": refs.get(row["print_of_id"]),
            "take": row["take"],
            "clips": [
                {"file": self._file(clip["audio_id"]), **{name: clip[name] for name in _CLIP}}
                for _, clip in clips
            ],
        }

    def _file(self, audio_id):
        return self._files.get(audio_id, f"mixes/{self._mix_id}/recordings/removed-{audio_id}")


def move(apps, schema_editor):
    """Write the values of every mix, then its journal from the newest entry to the oldest."""
    for mix in apps.get_model("mixes", "Mix").objects.iterator():
        rows = Rows(apps, mix)
        newest = rows.mix()
        _write_values(apps, mix, newest)
        entries = []
        for entry in mix.journal.order_by("-revision").iterator(_AT_ONCE):
            after = rows.mix()
            rows.take_back(entry.changes)
            entry.changes = [change.plain() for change in find_difference(rows.mix(), after)]
            entries.append(entry)
            if len(entries) == _AT_ONCE:
                mix.journal.bulk_update(entries, ["changes"])
                entries = []
        mix.journal.bulk_update(entries, ["changes"])


def _write_values(apps, mix, told):
    def model(name):
        return apps.get_model("mixes", name)

    apart = {"title", "sample_rate_hz", "tracks", "buses", "groups", "automation"}
    mix.values = {name: value for name, value in told.items() if name not in apart}
    mix.save(update_fields=["values"])
    for place, group in enumerate(told["groups"]):
        values = {name: group[name] for name in _GROUP}
        mix.groups.filter(ref=group["id"]).update(position=place, values=values)
    for place, lane in enumerate(told["automation"]):
        mix.automation.filter(target=lane["target"]).update(position=place)
    responses = dict(model("SpaceResponse").objects.values_list("file", "pk"))
    for strip in (*told["tracks"], *told["buses"]):
        row = mix.strips.get(ref=strip["id"])
        row.values = {name: value for name, value in strip.items() if name not in _APART}
        row.save(update_fields=["values"])
        clips = model("Clip").objects.filter(track=row).order_by("position", "pk")
        for clip, values in zip(clips, strip.get("clips", ()), strict=True):
            clip.values = {name: values[name] for name in _CLIP}
            clip.save(update_fields=["values"])
        sends = model("Send").objects.filter(source=row).order_by("pk")
        for send, values in zip(sends, strip["sends"], strict=True):
            send.values = {name: values[name] for name in _SEND}
            send.save(update_fields=["values"])
        used = {responses[one["file"]] for one in strip["chain"] if one.get("file") in responses}
        model("StripResponse").objects.bulk_create(
            model("StripResponse")(strip_id=row.pk, response_id=key) for key in used
        )


class Migration(migrations.Migration):

    dependencies = [
        ('mixes', '0025_values'),
    ]

    operations = [migrations.RunPython(move)]
