"""Every control of every view of Listen, used once: the server takes each, and it is seen to act.

What the page holds afterwards is read by the server's own reading of settings, which says what it
cannot use; what a control shows is what is held.
"""

import json
from typing import Any

from django.contrib.auth import get_user_model
from playwright.sync_api import Locator, Page, expect

from metaphon.web.listen.settings import read_settings
from metaphon.web.listen.views import VIEWS
from metaphon.web.mixes.models import Mix
from tests.browser.server import BrowserTest

PLAYER = "import('/static/listen/player.js').then(({ player }) => %s)"
SAID = """import('/static/listen/player.js').then(({ player }) => {
  window.said = [];
  player.addEventListener('said', ({ detail }) => window.said.push(String(detail)));
})"""
BOARD = "[data-view]"


class Controls(BrowserTest):
    def begin(self, view: str) -> Page:
        page = self.open()
        self.mix = Mix.objects.get(title="The Lamp at Skerrow")
        page.goto(f"{self.address}/mix/{self.mix.pk}/listen/?view={view}")
        page.wait_for_selector("#listen .play:not([disabled])")
        page.evaluate(SAID)
        self.settled(page)
        return page

    def held(self, page: Page) -> Any:
        return page.evaluate(PLAYER % "player.state")

    def taken(self, page: Page, what: str) -> None:
        """The server can use all that the page holds, and has said nothing against it."""
        user = get_user_model().objects.get(username="demo")
        forgotten = read_settings(self.held(page), self.mix, user)[1]
        self.assertEqual([one.sentence for one in forgotten], [], what)
        against = [
            s for s in page.evaluate("window.said ?? []") if "could not" in s or "left out" in s
        ]
        self.assertEqual(against, [], what)

    def shown(self, page: Page, selector: str) -> list[Locator]:
        return [one for one in page.locator(f"{BOARD} {selector}").all() if one.is_visible()]

    def test_every_number(self) -> None:
        for view, _ in VIEWS:
            page = self.begin(view)
            self.unfold(page, view)
            for number in self.shown(page, ".value input.number"):
                name = number.get_attribute("aria-label")
                box = number.locator("xpath=ancestor::*[contains(@class, 'value')][1]")
                low, high = (
                    float(box.get_attribute(f"data-{end}") or 0) for end in ("low", "high")
                )
                before = self.held(page)
                wanted = low + (high - low) * 0.3
                number.fill(f"{wanted:.2f}")
                number.press("Enter")
                self.wait_for(lambda page=page, before=before: self.held(page) != before)
                shown = float(number.input_value().replace("\u2212", "-"))
                step = float(box.get_attribute("data-step") or 1.0)
                self.assertLess(abs(shown - wanted), max(step, 0.02), name)
                self.taken(page, f"{view}: {name}")
            page.context.close()

    def unfold(self, page: Page, view: str) -> None:
        """Show what only some settings have."""
        if view == "headphones":
            page.evaluate(
                PLAYER
                % """player.monitor({ binaural: { head: 'sphere', room: {} },
                  through: 'binaural', correction: { response: 'open_pair' } })"""
            )
        self.settled(page)

    def test_every_option_of_every_menu(self) -> None:
        for view, _ in VIEWS:
            page = self.begin(view)
            self.unfold(page, view)
            for place, menu in enumerate(self.shown(page, "select[data-bind]")):
                name = menu.get_attribute("aria-label") or str(place)
                for value in menu.locator("option:not([disabled])").evaluate_all(
                    "options => options.map((option) => option.value)"
                ):
                    if not menu.is_visible():
                        continue
                    menu.select_option(value=value)
                    self.assertEqual(menu.input_value(), value, name)
                    self.taken(page, f"{view}: {name} {value}")
            page.context.close()

    def test_every_button_and_tick(self) -> None:
        """Twice each: on, and off again; what removes something is left alone."""
        for view, _ in VIEWS:
            page = self.begin(view)
            self.unfold(page, view)
            page.evaluate("addEventListener('submit', (event) => event.preventDefault(), true)")
            ways = "button[data-toggle], button[data-choose], button[data-switch], button.pole"
            for button in self.shown(page, f":is({ways}), :is(input[type=checkbox][data-bind])"):
                name = button.get_attribute("aria-label") or button.text_content() or ""
                for _ in range(2):
                    if button.is_visible() and button.is_enabled():
                        button.click()
                        self.taken(page, f"{view}: {name.strip()}")
            page.context.close()

    def test_a_loudspeaker_is_set_and_kept(self) -> None:
        """By typing and by keys; the other settings go on acting, after the page is opened anew."""
        page = self.begin("loudspeakers")
        for name, value in (("Distance", "3.25"), ("Trim", "−6.0"), ("Delay", "12.00")):
            field = page.get_by_label(f"{name} of M+030")
            field.fill(value.replace("−", "-"))
            field.press("Enter")
            expect(field).to_have_value(value)
        page.get_by_label("Trim of M-030").press("ArrowUp")
        page.reload()
        page.wait_for_selector("#listen .play:not([disabled])")
        expect(page.get_by_label("Trim of M+030")).to_have_value("−6.0")
        rows = self.held(page)["monitor"]["loudspeakers"]["loudspeakers"]
        self.assertEqual(
            [rows[0][name] for name in ("distance_m", "trim_db", "delay_ms")], [3.25, -6.0, 12.0]
        )
        self.assertNotIn("speaker", self.held(page))
        self.taken(page, "after loading anew")

    def test_what_an_earlier_version_kept_is_forgotten_and_the_rest_counts(self) -> None:
        """Unknown, out of range, of another shape, and files that are gone."""
        page = self.begin("headphones")
        spoiled = {
            "speaker": {"0": {"distance_m": 3.0}},
            "monitor": {
                "level_db": -12.0,
                "glow": True,
                "binaural": {"head": "own:999999"},
                "loudspeakers": {"layout": "0+5+0", "loudspeakers": [{"trim_db": 90.0}]},
            },
            "monitor_sources": {"a": {"source": "reference 99999"}, "b": {}},
        }
        page.evaluate(
            "(state) => import('/static/listen/player.js').then(({ player }) =>"
            " localStorage.setItem(player.key, JSON.stringify(state)))",
            spoiled,
        )
        page.reload()
        page.wait_for_selector("#listen .play:not([disabled])")
        page.evaluate(SAID)
        page.keyboard.press("Space")
        self.wait_for(lambda: len(page.evaluate("window.said")) >= 4)
        state = self.held(page)
        self.assertNotIn("speaker", state)
        self.assertNotIn("glow", state["monitor"])
        self.assertNotIn("head", state["monitor"]["binaural"])
        self.assertNotIn("source", state["monitor_sources"]["a"])
        self.assertEqual(state["monitor"]["level_db"], -12.0)
        kept = json.loads(page.evaluate(PLAYER % "localStorage.getItem(player.key)"))
        self.assertNotIn("speaker", kept)
        self.wait_for(lambda: page.evaluate(PLAYER % "player.position") > 4800)
        page.evaluate("window.said = []")
        self.taken(page, "once forgotten")
