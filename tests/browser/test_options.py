"""Every option of every select of every view, chosen once: no fault, and the mix can be played."""

from playwright.sync_api import Locator, Page

from metaphon.core.engine.plan import compile
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.snapshots import document_of
from metaphon.web.shell.workspaces import WORKSPACES
from tests.browser.server import BrowserTest
from tests.runner import long_test

# selects that are alike in every row or side are tried once
_ALIKE = """(select) => {
  const told = select.dataset.command ? JSON.parse(select.dataset.command).kind : "";
  return [told, select.dataset.menu, select.dataset.field, select.name, select.dataset.bind,
          told ? "" : select.ariaLabel].join();
}"""
_FAULT = "The program made a fault"


class Options(BrowserTest):
    def mix(self) -> Mix:
        return Mix.objects.get(title="The Lamp at Skerrow")

    def choose_all(self, page: Page, place: str) -> int:
        """Choose every option of each kind of select of a page; how many were chosen."""
        page.goto(f"{self.address}/mix/{self.mix().pk}/{place}")
        self.settled(page)
        kinds: dict[str, tuple[str, list[str]]] = {}
        for select in page.locator("#workspace select").all():
            if select.is_visible() and select.is_enabled():
                called = select.evaluate("(one) => one.ariaLabel || one.name")
                kinds.setdefault(select.evaluate(_ALIKE), (called, self.values(select)))
        count = 0
        for called, values in kinds.values():
            for value in values:
                with self.subTest(place, select=called, option=value):
                    self.choose(page, place, called, value)
                    count += 1
        return count

    def values(self, select: Locator) -> list[str]:
        found: list[str] = select.evaluate(
            "(one) => [...one.options].filter((o) => !o.disabled).map((o) => o.value)"
        )
        return found

    def choose(self, page: Page, place: str, called: str, value: str) -> None:
        before = self.mix().revision
        ways = f'select[aria-label="{called}"], select[name="{called}"]'
        select = page.locator(f"#workspace :is({ways})").first
        if not select.count() or not select.is_visible() or value not in self.values(select):
            page.goto(f"{self.address}/mix/{self.mix().pk}/{place}")
            self.settled(page)
            select = page.locator(f"#workspace :is({ways})").first
        select.select_option(value)
        self.settled(page)
        self.assertNotIn(_FAULT, page.locator("#messages").inner_text())
        compile(document_of(self.mix()))
        if self.mix().revision > before:  # as it was for the next one
            page.locator("#undo").click()
            self.settled(page)

    @long_test
    def test_every_option_of_every_select(self) -> None:
        page = self.open()
        count = 0
        for one in WORKSPACES:
            if not one.tab:
                continue
            for view, _ in one.views or (("", ""),):
                count += self.choose_all(page, f"{one.name}/?view={view}")
        count += self.choose_all(page, "flow/?view=table&strip=gull")
        self.assertGreater(count, 200)
