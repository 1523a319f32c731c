"""Field in a real browser: dragged, nudged, typed, several at once, undone."""

from playwright.sync_api import Page, expect

from metaphon.web.mixes.models import Mix, Placement
from tests.browser.server import BrowserTest


class Field(BrowserTest):
    def place(self, name: str) -> tuple[float, float]:
        row = Placement.objects.get(strip__name=name, strip__mix__title="The Lamp at Skerrow")
        return row.azimuth_deg, row.elevation_deg

    def field(self) -> Page:
        page = self.open()
        mix = Mix.objects.get(title="The Lamp at Skerrow")
        page.goto(f"{self.address}/mix/{mix.pk}/field/")
        page.wait_for_selector("#field-chart .object")
        return page

    def test_dragging_keys_typing_and_undo(self) -> None:
        page = self.field()
        horn = page.locator('.object[aria-label$="Ship\'s horn"]')
        box = horn.locator(".body").bounding_box()
        chart = page.locator("#field-chart .graticule").bounding_box()
        page.mouse.move(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
        page.mouse.down()
        page.mouse.move(chart["x"] + chart["width"] / 2, chart["y"] + chart["height"] / 2, steps=8)
        page.mouse.up()
        self.wait_for(lambda: self.place("Ship's horn") != (120.0, 8.0))
        azimuth, elevation = self.place("Ship's horn")
        self.assertLess(abs(azimuth) + abs(elevation), 3.0)  # the middle of the chart is straight ahead
        page.click("#undo")
        self.wait_for(lambda: self.place("Ship's horn") == (120.0, 8.0))
        page.wait_for_load_state("networkidle")
        horn.focus()
        page.keyboard.press("ArrowLeft")
        page.keyboard.press("Shift+ArrowUp")
        self.wait_for(lambda: self.place("Ship's horn") == (121.0, 13.0))
        page.wait_for_load_state("networkidle")
        azimuth_field = page.get_by_label("Ship's horn azimuth", exact=True)
        azimuth_field.fill("-45")
        azimuth_field.press("Enter")
        self.wait_for(lambda: self.place("Ship's horn") == (-45.0, 13.0))
        expect(azimuth_field).to_have_value("−45.0")
        expect(page.locator("#field-list tr[data-id]")).to_have_count(13)
        middle = chart["x"] + chart["width"] / 2
        self.wait_for(lambda: horn.locator(".body").bounding_box()["x"] > middle)  # the chart follows what was typed

    def test_several_at_once(self) -> None:
        page = self.field()
        before = self.place("Choir hum"), self.place("Ship's horn")
        page.click("[data-pick]:has-text('Choir hum')")
        page.click('[data-pick]:has-text("Ship\'s horn")', modifiers=["Shift"])
        page.fill("[name=by_deg]", "20")
        page.click("button:has-text('Turn')")
        turned = tuple((azimuth + 20.0, elevation) for azimuth, elevation in before)
        self.wait_for(lambda: (self.place("Choir hum"), self.place("Ship's horn")) == turned)
        page.click("#undo")
        self.wait_for(lambda: (self.place("Choir hum"), self.place("Ship's horn")) == before)
        page.fill("#field-filter", "gull")
        expect(page.locator("#field-list tr[data-id]:visible")).to_have_count(1)
