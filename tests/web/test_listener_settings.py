"""What a page has kept of how it listens, spoiled in every place: only that is left out."""

from collections.abc import Iterator
from typing import Any

from pydantic import BaseModel

from metaphon.core.listen.monitor import (
    Binaural,
    Checks,
    Correction,
    Loudspeaker,
    LoudspeakerSet,
    Monitor,
    MonitorSource,
    VirtualPair,
)
from metaphon.core.listen.wishes import Hearing
from metaphon.web.listen.models import UserFile
from metaphon.web.listen.settings import read_settings
from tests.web.base import WebTest, make_user

WHOLE = {
    "active": "b",
    "matched": True,
    "loop": [0, 48000],
    "monitor_sources": {"a": {"target": "0+5+0", "what": "mix"}, "b": {"target": "binaural"}},
    "monitor": {
        "level_db": -12.0,
        "dimmed": True,
        "silent": ["M+030"],
        "checks": {"mono": True},
        "binaural": {"head": "sphere", "room": {"width_m": 4.0}},
        "virtual_pair": {"left_deg": 60.0},
        "correction": {"response": "open_pair", "strength": 50.0},
        "loudspeakers": {"layout": "4+7+0", "loudspeakers": [{"trim_db": -3.0}, {}]},
    },
}
MODELS: dict[tuple[str, ...], type[BaseModel]] = {
    (): Hearing,
    ("monitor_sources", "a"): MonitorSource,
    ("monitor",): Monitor,
    ("monitor", "checks"): Checks,
    ("monitor", "binaural"): Binaural,
    ("monitor", "virtual_pair"): VirtualPair,
    ("monitor", "correction"): Correction,
    ("monitor", "loudspeakers"): LoudspeakerSet,
    ("monitor", "loudspeakers", "loudspeakers", "0"): Loudspeaker,
}
FOUND_BY_THE_SERVER = ("head_file", "worn", "monitor", "monitor_sources", "response", "correction")


class Settings(WebTest):
    def places(self) -> Iterator[tuple[tuple[str, ...], str]]:
        for way, model in MODELS.items():
            for name in (*model.model_fields, "of_an_earlier_version"):
                if name not in FOUND_BY_THE_SERVER:
                    yield way, name

    def spoiled(self, way: tuple[str, ...], name: str, value: Any) -> dict[str, Any]:
        def copy(part: Any, left: tuple[str, ...]) -> Any:
            if isinstance(part, list):
                return [
                    copy(one, left[1:]) if str(n) == left[0] else one for n, one in enumerate(part)
                ]
            if not left:
                return {**part, name: value}
            return {**part, left[0]: copy(part[left[0]], left[1:])}

        found: dict[str, Any] = copy(WHOLE, way)
        return found

    def test_only_what_is_spoiled_is_left_out(self) -> None:
        user = make_user("cleo")
        plain, none = read_settings(WHOLE, self.mix, user)
        self.assertEqual(none, [])
        for way, name in self.places():
            for value in ({"no": "such"}, 1e9, "no such"):
                state = self.spoiled(way, name, value)
                with self.subTest(way=way, name=name, value=value):
                    got, forgotten = read_settings(state, self.mix, user)
                    if not forgotten:  # a value that this one takes
                        continue
                    [one] = forgotten
                    self.assertEqual([str(step) for step in one.path][: len(way)], list(way))
                    self.assertIn(name, one.path)
                    self.assertTrue(one.sentence.endswith("."))
                    if one.path[-1] != name:
                        continue  # a part of it
                    kept = self.spoiled(way, name, None)
                    self.without(kept, way, name)
                    self.assertEqual(got, read_settings(kept, self.mix, user)[0])
        self.assertEqual(plain.monitor.loudspeakers.loudspeakers[0].trim_db, -3.0)

    def without(self, state: Any, way: tuple[str, ...], name: str) -> None:
        for step in way:
            state = state[int(step)] if isinstance(state, list) else state[step]
        del state[name]

    def test_files_of_somebody_else_and_those_that_are_gone(self) -> None:
        user, other = make_user("cleo"), make_user("dora")
        row = UserFile.objects.create(user=other, kind=UserFile.Kind.HEAD, name="h", file="h.sofa")
        for number in (row.pk, 10**9):
            monitor = {**WHOLE["monitor"], "binaural": {"head": f"own:{number}"}}  # type: ignore[dict-item]
            got, [one] = read_settings({**WHOLE, "monitor": monitor}, self.mix, user)
            self.assertEqual(one.path, ("monitor", "binaural", "head"))
            self.assertEqual(got.monitor.binaural, Binaural())
            self.assertEqual(got.monitor.level_db, -12.0)

    def test_what_is_no_settings_at_all_begins_anew(self) -> None:
        user = make_user("cleo")
        for state in (
            {"monitor": 3},
            {"monitor": {"correction": "x"}},
            {"monitor_sources": {"a": []}},
            {"loop": {"a": 1}},
        ):
            got, forgotten = read_settings(state, self.mix, user)
            self.assertTrue(forgotten, state)
            self.assertEqual(got.monitor.through, "plain")
