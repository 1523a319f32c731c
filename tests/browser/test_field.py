"""Field in a real browser: dragged, nudged, typed, several at once, undone."""

from itertools import combinations
from typing import Any

import numpy as np
from django.contrib.auth import get_user_model
from playwright.sync_api import Locator, Page, expect

from metaphon.core.document.breakpoints import CURVES, Breakpoints
from metaphon.core.document.lanes import lanes_of, values_at
from metaphon.core.document.mix import Placement
from metaphon.core.edits.arrangement import Move
from metaphon.core.edits.structure import SetGroup
from metaphon.core.spatial.chart import on_chart
from metaphon.core.spatial.directions import wrap_azimuth
from metaphon.web.mixes import journal
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.snapshots import document_of
from tests.browser.server import BrowserTest
from tests.web.base import named


class Field(BrowserTest):
    def place(self, name: str) -> tuple[float, float]:
        placement = self.placement(name)
        return placement.azimuth_deg, placement.elevation_deg

    def placement(self, name: str) -> Placement:
        placement: Placement = named(Mix.objects.get(title="The Lamp at Skerrow"), name).placement
        return placement

    def field(self) -> Page:
        page = self.open()
        mix = Mix.objects.get(title="The Lamp at Skerrow")
        page.goto(f"{self.address}/mix/{mix.pk}/field/")
        page.wait_for_selector("#field-chart .object")
        return page

    def test_the_page_draws_and_reads_directions_as_the_core_does(self) -> None:
        """The hand is quicker than the server, so the page projects too: by the same formulas."""
        page = self.field()
        directions = [(a, e) for a in range(-175, 180, 25) for e in (-85, -30, 0, 45, 85)]
        drawn, read, wrapped, ways, curve = page.evaluate(
            """async (directions) => {
                const chart = await import("/static/field/chart.js");
                const { near, smooth, wrap } = await import("/static/shell/drawing.js");
                const drawn = directions.map(([a, e]) => chart.onChart(a, e));
                const read = drawn.map(([x, y]) => chart.fromChart(x, y));
                const angles = [-540, -180, -1, 0, 179.5, 180, 361, 725];
                const ways = angles.map((to) => near(0, to));
                const curve = [0, 0.125, 0.25, 0.5, 0.875, 1].map(smooth);
                return [drawn, read, angles.map(wrap), ways, curve];
            }""",
            directions,
        )
        azimuth_deg, elevation_deg = np.transpose(directions)
        expected = on_chart(azimuth_deg, elevation_deg) * (100.0, -100.0)  # y downwards
        np.testing.assert_allclose(drawn, expected, atol=1e-9)
        np.testing.assert_allclose(read, directions, atol=1e-6)
        angles = [-540, -180, -1, 0, 179.5, 180, 361, 725]
        np.testing.assert_allclose(wrapped, wrap_azimuth(angles))
        lane = Breakpoints([0.0, 1.0], [0.0, 1.0], [CURVES.index("smooth"), 0])
        np.testing.assert_allclose(curve, values_at(lane, [0, 0.125, 0.25, 0.5, 0.875, 1]))
        np.testing.assert_allclose(ways, [np.unwrap([0, to], period=360)[1] for to in angles])

    def test_dragging_keys_typing_and_undo(self) -> None:
        page = self.field()
        horn = page.locator('.object[aria-label$="Ship\'s horn"]')
        box = self.body(page, "Ship's horn")
        chart = page.locator("#field-chart .graticule").bounding_box()
        page.mouse.move(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
        page.mouse.down()
        page.mouse.move(chart["x"] + chart["width"] / 2, chart["y"] + chart["height"] / 2, steps=8)
        page.mouse.up()
        self.wait_for(lambda: self.place("Ship's horn") != (120.0, 8.0))
        azimuth, elevation = self.place("Ship's horn")
        self.assertLess(
            abs(azimuth) + abs(elevation), 3.0
        )  # the middle of the chart is straight ahead
        page.click("#undo")
        azimuth_field = page.get_by_label("Ship's horn azimuth", exact=True)
        expect(azimuth_field).to_have_value("120.0")
        self.assertEqual(self.place("Ship's horn"), (120.0, 8.0))
        horn.focus()
        page.keyboard.press("ArrowLeft")
        page.keyboard.press("Shift+ArrowUp")
        self.wait_for(lambda: self.place("Ship's horn") == (121.0, 13.0))
        expect(azimuth_field).to_have_value("121.0")
        azimuth_field.fill("-45")
        azimuth_field.press("Enter")
        self.wait_for(lambda: self.place("Ship's horn") == (-45.0, 13.0))
        expect(azimuth_field).to_have_value("−45.0")
        expect(page.locator("#field-list tr[data-id]")).to_have_count(14)
        middle = chart["x"] + chart["width"] / 2
        self.wait_for(
            lambda: self.body(page, "Ship's horn")["x"] > middle
        )  # the chart follows what was typed

    def test_what_is_nudged_is_kept_though_the_page_is_drawn_anew_or_left(self) -> None:
        page = self.field()
        # nudges are kept once the keys have rested; here that takes longer than a redraw
        page.evaluate(
            "() => { const wait = setTimeout;"
            " window.setTimeout = (act, ms) => wait(act, ms === 350 ? 4000 : ms); }"
        )
        azimuth, elevation = self.place("Ship's horn")
        mark = page.locator('.object[aria-label$="Ship\'s horn"]')
        mark.focus()
        page.keyboard.press("ArrowLeft")
        page.evaluate("document.querySelector('#field-list').dataset.old = ''")
        page.evaluate(
            "document.dispatchEvent(new CustomEvent('mix-changed', { detail: { value: true } }))"
        )
        expect(page.locator("#field-list[data-old]")).to_have_count(0)
        page.keyboard.press("ArrowUp")
        page.locator('.object[aria-label$="Narrator (nb)"]').focus()
        page.keyboard.press("ArrowRight")
        page.click("#tabs a:has-text('Flow')")
        nudged = azimuth + 1.0, elevation + 1.0
        self.wait_for(lambda: self.place("Ship's horn") == nudged)
        page.click("#undo")
        self.wait_for(lambda: self.place("Ship's horn") == (azimuth, elevation))

    def test_several_at_once(self) -> None:
        page = self.field()
        before = self.place("Choir hum"), self.place("Ship's horn")
        page.click("[data-pick]:has-text('Choir hum')")
        page.click('[data-pick]:has-text("Ship\'s horn")', modifiers=["Shift"])
        page.fill("[name=by]", "20")
        page.click(".arrange button:has-text('Do')")
        turned = tuple((azimuth + 20.0, elevation) for azimuth, elevation in before)
        self.wait_for(lambda: (self.place("Choir hum"), self.place("Ship's horn")) == turned)
        page.click("#undo")
        self.wait_for(lambda: (self.place("Choir hum"), self.place("Ship's horn")) == before)
        page.fill("#field-filter", "gull")
        expect(page.locator("#field-list tr[data-id]:visible")).to_have_count(1)

    def on_screen(
        self, page: Page, azimuth_deg: float, elevation_deg: float
    ) -> tuple[float, float]:
        """Where the perspective shows a direction: turned by -28 and tilted by 24 degrees."""
        a, e, turn, tilt = np.radians([azimuth_deg, elevation_deg, -28.0, 24.0])
        x, y, z = -np.sin(a) * np.cos(e), np.cos(a) * np.cos(e), np.sin(e)
        right, away = x * np.cos(turn) + y * np.sin(turn), y * np.cos(turn) - x * np.sin(turn)
        up, deep = z * np.cos(tilt) + away * np.sin(tilt), away * np.cos(tilt) - z * np.sin(tilt)
        scale = 3.2 / (3.2 + deep) * 94.0
        at = page.evaluate(
            """([x, y]) => {
                const point = new DOMPoint(x, y);
                const svg = document.querySelector("#field-space");
                const { x: left, y: top } = point.matrixTransform(svg.getScreenCTM());
                return [left, top];
            }""",
            [float(right * scale), float(-up * scale)],
        )
        return at[0], at[1]

    def puts(self, azimuth_deg: float, elevation_deg: float, distance: float) -> None:
        mix = Mix.objects.get(title="The Lamp at Skerrow")
        owner = get_user_model().objects.get(username="demo")
        place = azimuth_deg, elevation_deg, distance
        journal.apply(mix, owner, Move(places={"horn": place}))

    def test_in_perspective_sources_are_chosen_and_dragged(self) -> None:
        """Along the sphere, beyond its rim to the far side, with Alt in depth, several at once."""
        distance = self.placement("Ship's horn").distance
        self.addCleanup(self.puts, *self.place("Ship's horn"), distance)
        self.puts(120.0, 8.0, 1.0)
        page = self.field()
        page.click("#views a:has-text('Perspective')")

        def drag(start: tuple[float, float], end: tuple[float, float]) -> None:
            page.mouse.move(*start)
            page.mouse.down()
            for part in np.linspace(0.1, 1.0, 10):
                page.mouse.move(*(a + (b - a) * part for a, b in zip(start, end, strict=True)))
            page.mouse.up()

        mark = page.locator("#field-space g.object[data-space-pick='horn'] .body").first

        def middle() -> tuple[float, float]:
            box = self.box(mark)
            return box["x"] + box["width"] / 2, box["y"] + box["height"] / 2

        drag(middle(), self.on_screen(page, 160.0, 20.0))
        self.wait_for(lambda: np.allclose(self.place("Ship's horn"), (160.0, 20.0), atol=1.5))
        self.settled(page)
        expect(page.locator("#field-one")).to_contain_text("Ship's horn")
        start = middle()
        page.keyboard.down("Alt")
        drag(start, (start[0], start[1] - 60.0))
        page.keyboard.up("Alt")
        self.wait_for(lambda: abs(self.placement("Ship's horn").distance - 2.0) < 0.06)
        self.settled(page)
        page.click("#undo")
        self.wait_for(lambda: self.placement("Ship's horn").distance == 1.0)
        self.settled(page)
        # several keep their arrangement; a press on one of them chooses it alone
        page.click("[data-pick]:has-text('Choir hum')", modifiers=["Shift"])
        before = self.place("Choir hum")
        moved = self.place("Ship's horn")
        drag(middle(), self.on_screen(page, 170.0, 20.0))
        self.wait_for(lambda: self.place("Ship's horn") != moved)
        turned = self.place("Ship's horn")[0] - moved[0]
        self.wait_for(
            lambda: abs(self.place("Choir hum")[0] - wrap_azimuth(before[0] + turned)) < 0.3
        )
        self.settled(page)
        expect(page.locator("#field-list tr.chosen")).to_have_count(2)
        page.mouse.click(*middle())
        expect(page.locator("#field-list tr.chosen")).to_have_count(1)
        self.assertEqual(page.locator(".refused").count(), 0)

    def test_names_stand_clear_of_each_other(self) -> None:
        page = self.field()
        for view in ("#field-chart", "#field-space"):
            name = "Chart" if view == "#field-chart" else "Perspective"
            page.click(f"#views a:has-text('{name}')")
            labels = page.locator(f"{view} .object .label")
            expect(labels).to_have_count(7)
            self.wait_for(lambda labels=labels: self.stand_clear(labels))  # once laid out
            # the two narrators stand at one place, so that one hides the number of the other
            numbered = {text for text in labels.all_text_contents() if text[0].isdigit()}
            self.assertEqual(numbered, {"1 Narrator (en)", "2 Narrator (nb)"})

    def stand_clear(self, labels: Locator) -> bool:
        """Whether no two of some texts lie over each other."""
        for one, other in combinations([label.bounding_box() for label in labels.all()], 2):
            assert one and other
            across = min(one["x"] + one["width"], other["x"] + other["width"]) - max(
                one["x"], other["x"]
            )
            down = min(one["y"] + one["height"], other["y"] + other["height"]) - max(
                one["y"], other["y"]
            )
            if across > 2 and down > 2:
                return False
        return True

    def test_the_list_says_where_a_moving_source_is_now(self) -> None:
        page = self.field()
        cells = page.locator("#field-list tr:has-text('Gull') .automated input")
        begins = self.points("gull/placement/azimuth_deg")[0].value
        expect(cells.first).to_have_value(f"{begins:.1f}")
        page.fill("#listen .now", "20")
        page.press("#listen .now", "Enter")
        expect(cells.first).not_to_have_value(f"{begins:.1f}")

    def test_a_moving_source_is_dragged_with_its_whole_path(self) -> None:
        page = self.field()
        before = self.path_of_gull()
        begins = self.body(page, "Gull")
        page.mouse.move(begins["x"] + 8, begins["y"] + 8)
        page.mouse.down()
        page.mouse.move(begins["x"] + 48, begins["y"] + 38, steps=4)
        page.mouse.up()
        self.wait_for(lambda: not np.array_equal(self.path_of_gull()[0], before[0]))
        for old, new in zip(before, self.path_of_gull(), strict=True):
            steps = (new - old + 180.0) % 360.0 - 180.0
            self.assertLess(np.ptp(steps), 0.01)
            self.assertLess(steps[0], -3.0)
        page.keyboard.press("Control+z")
        self.wait_for(lambda: np.array_equal(self.path_of_gull()[0], before[0]))

    def path_of_gull(self) -> list[np.ndarray]:
        targets = (f"gull/placement/{name}_deg" for name in ("azimuth", "elevation"))
        return [self.points(target).values for target in targets]

    def body(self, page: Page, name: str) -> Any:
        """Where a source is drawn, once the chart has come to rest."""
        found: list[Any] = []
        mark = page.locator(f'.object[aria-label$="{name}"] .body')
        self.wait_for(
            lambda: (
                found.append(mark.bounding_box())
                or (len(found) > 1 and found[-1] and found[-1] == found[-2])
            )
        )
        return found[-1]

    def points(self, target: str) -> Breakpoints:
        """The breakpoints of a lane of the demo."""
        lanes = document_of(Mix.objects.get(title="The Lamp at Skerrow")).automation
        [points] = [lane.points for lane in lanes if lane.target == target]
        return points

    def lanes(self, name: str) -> set[str]:
        mix = Mix.objects.get(title="The Lamp at Skerrow")
        found = lanes_of(document_of(mix), named(mix, name).ref)
        return {path.split("/")[1] for path in found if path.startswith("placement/")}

    def test_a_gesture_is_recorded_while_it_plays_and_a_path_is_drawn(self) -> None:
        page = self.field()
        page.wait_for_selector("#listen .play:not([disabled])")
        page.keyboard.press("p")
        page.click("#listen .play")
        player = "import('/static/listen/player.js').then(({ player }) => player.position)"
        self.wait_for(lambda: page.evaluate(player) > 24000)
        horn = self.body(page, "Ship's horn")
        page.mouse.move(horn["x"] + horn["width"] / 2, horn["y"] + horn["height"] / 2)
        page.mouse.down()
        for step in range(20):
            page.mouse.move(horn["x"] + 8 * step, horn["y"] - 2 * step)
            page.wait_for_timeout(40)
        page.mouse.up()
        self.wait_for(lambda: self.lanes("Ship's horn") == {"azimuth_deg", "elevation_deg"})
        self.settled(page)
        page.keyboard.press("p")
        page.click("#listen .play")
        expect(page.locator("#field-one")).to_contain_text("automated")
        page.click("text=Stand still")
        self.wait_for(lambda: self.lanes("Ship's horn") == set())
        self.settled(page)
        page.click("[data-draw]")
        page.fill("[data-draw-for]", "3")
        hum = self.body(page, "Choir hum")
        page.mouse.move(hum["x"] + 5, hum["y"] + 5)
        page.mouse.down()
        page.mouse.move(hum["x"] - 150, hum["y"] - 30, steps=12)
        page.mouse.up()
        self.wait_for(lambda: self.lanes("Choir hum") == {"azimuth_deg", "elevation_deg"})
        times = self.points("choir_hum/placement/azimuth_deg").times_s
        self.assertGreater(times[-1] - times[0], 2.5)

    def test_a_group_turns_together_and_stays_an_arrangement(self) -> None:
        page = self.field()
        mix = Mix.objects.get(title="The Lamp at Skerrow")
        strips = tuple(named(mix, name).ref for name in ("Ship's horn", "Choir hum"))
        owner = mix.members.get().user
        journal.apply(mix, owner, SetGroup(strips=strips, name="Birds"))
        page.reload()
        page.wait_for_selector("#field-chart .object")
        before = {name: self.place(name) for name in ("Ship's horn", "Choir hum")}
        page.select_option("#field-group", "Birds")
        expect(page.locator("#field-list tr.chosen")).to_have_count(2)
        page.fill("[name=by]", "-35")
        page.click(".arrange button:has-text('Do')")
        wanted = {name: ((a - 35 + 180) % 360 - 180, e) for name, (a, e) in before.items()}
        self.wait_for(lambda: {name: self.place(name) for name in before} == wanted)
        page.click("#undo")
        self.wait_for(lambda: {name: self.place(name) for name in before} == before)

    def test_the_fold_down_and_the_delivery_belong_to_the_mix(self) -> None:
        page = self.field()
        mix = Mix.objects.get(title="The Lamp at Skerrow")
        page.click("button:has-text('Fold-down')")
        level = page.get_by_label("Fold-down, surround")
        level.fill("-4,5")
        level.press("Enter")
        behind = page.locator("#fold-down tr:has(th:text-is('M+110')) td").first
        expect(behind).to_contain_text("M+030 −4.5")
        page.get_by_label("LFE into stereo and headphones").click()
        expect(page.locator("#fold-down tr:has(th:text-is('LFE1')) td").first).to_contain_text("−6")
        expect(page.locator("#fold-down")).to_be_visible()
        page.get_by_label("Fold-down, surround").dblclick()
        expect(behind).to_contain_text("M+030 −3.0")
        page.keyboard.press("Escape")
        page.select_option("[name=delivery]", label="Upper half only")
        expect(page.locator(".changes").first).to_have_text("raised to the ears")
        page.reload()
        expect(page.locator("[name=delivery]")).to_have_value("shipped 2")
        kept = document_of(Mix.objects.get(pk=mix.pk)).fold_down
        self.assertEqual((kept.surround_db, kept.lfe_db), (-3.0, -6.0))

    def test_converting_and_going_back(self) -> None:
        page = self.field()
        page.click("[data-pick]:has-text('Rowing boat')")
        page.wait_for_selector("#field-one .tabs")
        page.click("[popovertarget=field-more]")
        page.select_option("#field-more [name=to]", "cube")
        page.click("#field-more button:has-text('Convert')")
        expect(page.locator("#field-notes")).to_contain_text("below the listener")
        self.wait_for(lambda: self.lanes("Rowing boat") >= {"azimuth_deg", "x", "y"})
        page.keyboard.press("Escape")
        expect(page.locator("#field-one")).to_contain_text("Kept: angles")
        page.select_option(".lane-tools [name=parameter]", "placement/x")
        expect(page.locator("#lane .point").first).to_be_visible()
        page.click("text=Go back to it")
        self.wait_for(lambda: self.placement("Rowing boat").coordinates == "sphere")

    def test_a_lane_is_edited_by_mouse_and_keys(self) -> None:
        page = self.field()
        page.click("[data-pick]:has-text('Narrator (en)')")
        page.wait_for_selector("#lane")
        page.select_option(".lane-tools [name=parameter]", "gain_db")
        self.settled(page)
        box = page.locator("#lane").bounding_box()
        for part in (0.3, 0.6):
            page.mouse.click(box["x"] + box["width"] * part, box["y"] + 40)
            self.settled(page)
        lane = lambda: self.points("narrator_en/gain_db")  # noqa: E731
        self.wait_for(lambda: len(lane()) == 2)
        self.settled(page)
        page.click("[data-curve=hold]")
        self.wait_for(lambda: lane()[1].curve == "hold")
        self.settled(page)
        value = lane()[1].value
        page.locator("#lane").focus()
        page.keyboard.press("End")
        page.keyboard.press("ArrowDown")
        self.wait_for(lambda: lane()[1].value < value)
        self.settled(page)
        page.locator("#lane").focus()
        page.keyboard.press("End")
        page.keyboard.press("Delete")
        self.wait_for(lambda: len(lane()) == 1)

    def test_perspective_parts_of_the_panel_and_a_test_signal(self) -> None:
        page = self.field()
        page.click("#views a:has-text('Perspective')")
        expect(page.locator("#field-chart")).to_be_hidden()
        page.locator("#field-space").focus()
        before = page.locator("#field-space .floor").get_attribute("d")
        page.keyboard.press("ArrowLeft")
        self.assertNotEqual(page.locator("#field-space .floor").get_attribute("d"), before)
        page.click('[data-pick]:has-text("Ship\'s horn")')
        page.wait_for_selector("#field-one .tabs")
        page.click("[data-part=size]")
        page.get_by_label("Ship's horn, Diffuseness").fill("0.4")
        page.keyboard.press("Enter")
        self.wait_for(lambda: self.placement("Ship's horn").diffuseness == 0.4)
        self.settled(page)
        expect(
            page.get_by_label("Ship's horn, Diffuseness")
        ).to_be_visible()  # the same part stays open
        page.wait_for_selector("#listen .play:not([disabled])")
        page.click("[data-stand-in=noise]")
        expect(page.locator(".chip")).to_have_text("Test signal")
        level = (
            "import('/static/listen/player.js').then(({ player }) => "
            "Math.max(...(player.step?.peak ?? [-120])))"
        )
        self.wait_for(lambda: page.evaluate(level) > -40.0)
        page.click("[data-stand-in=noise]")
        expect(page.locator(".chip")).to_have_count(0)
