"""The guide inside the application: every task, with a picture that is there."""

import re

from metaphon.web.shell.guide import pages
from tests.web.base import WebTest


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
