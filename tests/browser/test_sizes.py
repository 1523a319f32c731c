"""Every view and box at three sizes of the window: nothing cut, covered or beyond its panel."""

from playwright.sync_api import Page

from metaphon.web.mixes.models import Mix
from metaphon.web.shell.workspaces import WORKSPACES
from tests.browser.server import BrowserTest
from tests.runner import long_test

SIZES = ((1280, 800), (1024, 768), (1920, 1080))
_CONTROLS = (
    "button, input:not([type=hidden], [type=file]), select, textarea, summary, a.button, "
    "[role=slider]"
)
_LOOK = """([controls, box]) => {
  const name = (one) =>
    (one.ariaLabel || one.textContent || one.name || "").trim().replace(/\\s+/g, " ").slice(0, 40) +
    ` <${one.localName}>`;
  const scrolls = (one) =>
    /auto|scroll/.test(getComputedStyle(one).overflowX) && one.scrollWidth > one.clientWidth + 1;
  const faults = new Set();
  for (const one of document.querySelectorAll(controls)) {
    if (box && !one.closest(":popover-open")) continue;
    if (!one.checkVisibility({ visibilityProperty: true, opacityProperty: true })) continue;
    if (one.closest(".visually-hidden, .visually-hidden-focusable, [inert]")) continue;
    one.scrollIntoView({ block: "nearest", inline: "nearest" });
    const place = one.getBoundingClientRect();
    if (place.width < 2 || place.height < 2) continue;
    const [x, y] = [(place.left + place.right) / 2, (place.top + place.bottom) / 2];
    if (place.left < -1 || place.right > innerWidth + 1 || y < 0 || y > innerHeight) {
      faults.add(`outside the window: ${name(one)}`);
      continue;
    }
    const top = document.elementFromPoint(x, y);
    const label = one.closest("label");
    const value = one.closest(".value");
    const own =
      one.contains(top) || top?.contains(one) || label?.contains(top) || value?.contains(top);
    if (!own) faults.add(`covered: ${name(one)} by ${name(top)}`);
    const panel = one.closest(".sheet, aside, [popover], #listen, header, .bar");
    if (panel) {
      const around = panel.getBoundingClientRect();
      let movable = false;
      for (let each = one.parentElement; each !== panel.parentElement; each = each.parentElement)
        movable ||= scrolls(each);
      if (!movable && (place.right > around.right + 1 || place.left < around.left - 1))
        faults.add(`beyond its panel: ${name(one)}`);
    }
    const isText = one.matches("button, a.button, summary, input.number");
    const told = getComputedStyle(one).textOverflow === "ellipsis";
    if (isText && !told && one.scrollWidth > one.clientWidth + 2) faults.add(`cut: ${name(one)}`);
  }
  if (document.documentElement.scrollWidth > innerWidth + 1) faults.add("wider than the window");
  return [...faults];
}"""


class Sizes(BrowserTest):
    def begin(self, size: tuple[int, int]) -> Page:
        page = self.open()
        page.set_viewport_size({"width": size[0], "height": size[1]})
        self.base = f"{self.address}/mix/{Mix.objects.get(title='The Lamp at Skerrow').pk}"
        return page

    def pages(self) -> list[str]:
        views = [
            f"{one.name}/?view={view}"
            for one in WORKSPACES
            if one.tab
            for view, _ in one.views or (("", ""),)
        ]
        return [*views, "flow/?view=table&strip=gull", "reverb/?strip=shed", "field/?strip=gull"]

    def look(self, page: Page, box: bool = False) -> list[str]:
        found: list[str] = page.evaluate(_LOOK, [_CONTROLS, box])
        return found

    def test_what_is_wrong_is_found(self) -> None:
        page = self.begin(SIZES[0])
        page.goto(f"{self.base}/handover/")
        self.settled(page)
        self.assertEqual(self.look(page), [])
        for wrong, said in (
            ("main.textContent = 'Hand over to everybody'; main.style.width = '40px'", "cut"),
            ("main.style.translate = '600px 0'", "beyond its panel"),
            ("main.style.cssText = 'position:fixed;left:2000px'", "outside the window"),
            (
                "document.getElementById('lanes-handle').style.cssText = 'position:fixed;inset:0'",
                "",
            ),
        ):
            page.evaluate(f"() => {{ const main = document.querySelector('.go .main'); {wrong}; }}")
            found = self.look(page)
            self.assertTrue(any(said in one for one in found), (wrong, found))
            page.reload()
            self.settled(page)

    def test_every_view_in_a_small_window(self) -> None:
        page = self.begin((1024, 768))
        for place in self.pages():
            page.goto(f"{self.base}/{place}")
            self.settled(page)
            self.assertEqual(self.look(page), [], place)

    @long_test
    def test_every_view_and_every_box_at_every_size(self) -> None:
        for size in SIZES:
            page = self.begin(size)
            for place in self.pages():
                page.goto(f"{self.base}/{place}")
                self.settled(page)
                with self.subTest(place, size=size):
                    self.assertEqual(self.look(page), [])
                for opener in page.locator("[popovertarget]").all():
                    if not opener.is_visible() or opener.is_disabled():
                        continue
                    with self.subTest(place, size=size, box=opener.text_content()):
                        opener.click()
                        self.settled(page)
                        self.assertEqual(self.look(page, box=True), [])
                        page.keyboard.press("Escape")
            page.context.close()
