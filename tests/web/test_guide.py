"""The guide inside the application: every task, with a picture that is there."""

import re
from pathlib import Path

from metaphon.core.edits.registry import COMMANDS
from metaphon.web.shell import guide as templates
from metaphon.web.shell.guide import pages
from metaphon.web.shell.keys import KEYS
from tests.web.base import WebTest

_FORM = re.compile(r"<form[^>]*?data-command='\{\"kind\": \"(\w+)\"[^>]*>(.*?)</form>", re.S)
_FIELD = re.compile(r'<input\b[^>]*type="text"[^>]*>')


class Guide(WebTest):
    def test_every_task_has_its_page_and_its_picture(self) -> None:
        names = list(pages())
        self.assertEqual(names[0], "bring-in")
        self.assertEqual(len(names), 8)
        self.assertRedirects(self.client.get("/guide"), "/guide/bring-in")
        for name in names:
            page = self.client.get(f"/guide/{name}")
            self.assertContains(page, f"<h2>{pages()[name].title}</h2>")
            pictures = re.findall(r'src="(/guide/pictures/[^"]+)"', page.content.decode())
            self.assertEqual(len(pictures), 1, name)
            answer = self.client.get(pictures[0])
            self.assertEqual(b"".join(answer)[:4], b"\x89PNG")  # type: ignore[call-overload]
        for address in ("/guide/nowhere", "/guide/pictures/nothing.png"):
            self.assertEqual(self.client.get(address).status_code, 404)


class Keys(WebTest):
    def test_no_key_does_two_things_at_once(self) -> None:
        claimed = {
            key: place.where
            for place in KEYS
            if place.where in ("Everywhere", "Listening")
            for key, _ in place.keys
        }
        left_to_it = {("Flow: the map", "M")}  # while a box of the map has the keys
        for place in KEYS:
            for key, _ in place.keys:
                everywhere = place.where in ("Everywhere", "Listening", "A number")
                if not everywhere and len(key) == 1 and (place.where, key) not in left_to_it:
                    self.assertNotIn(key, claimed, place.where)


class Forms(WebTest):
    def test_an_empty_number_of_a_form_leaves_the_default_to_its_command(self) -> None:
        """What is typed as decimals is left out where it is empty; other text is sent as it is."""
        fields = 0
        for template in Path(templates.__file__ or "").parent.parent.glob("*/templates/*/*.html"):
            for kind, inside in _FORM.findall(template.read_text()):
                values = COMMANDS[kind].model_fields
                for tag in _FIELD.findall(inside):
                    [name] = re.findall(r'name="(\w+)"', tag)
                    if name in values and values[name].annotation in (float, float | None):
                        fields += 1
                        self.assertIn('inputmode="decimal"', tag, f"{template.name}: {name}")
        self.assertGreater(fields, 8)
