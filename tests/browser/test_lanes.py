"""Width as automation in the drawer of lanes: drawn, and moved for a phrase and back."""

from playwright.sync_api import Page, expect

from metaphon.core.document.breakpoints import Breakpoints
from metaphon.core.document.lanes import lanes_of, value_at
from metaphon.core.edits.lane_edits import DrawLane
from metaphon.web.mixes.journal import apply
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.snapshots import document_of
from tests.browser.server import BrowserTest, HeldBack

_WIDTH = "chain/0/correlation"


class Drawer(BrowserTest):
    def lamp(self, page: Page, place: str) -> None:
        self.mix = Mix.objects.get(title="The Lamp at Skerrow")
        page.goto(f"{self.address}/mix/{self.mix.pk}/{place}")
        self.settled(page)

    def width(self) -> list[tuple[float, float]]:
        lanes = lanes_of(document_of(Mix.objects.get(pk=self.mix.pk)), "hand_bells")
        return [(p.t_s, p.value) for p in lanes[_WIDTH].points] if _WIDTH in lanes else []

    def test_width_is_drawn_beneath_the_waveform_and_moved_for_a_phrase(self) -> None:
        page = self.open()
        self.lamp(page, "flow/?strip=hand_bells")
        page.select_option("#panel [name=processor]", "widener")
        page.click("#panel button:text-is('Add')")
        expect(page.locator("#panel .processor h2")).to_have_text("Widener")
        page.keyboard.press("w")
        expect(page.locator("#lanes [name=strip]")).to_have_value("hand_bells")
        page.click("#tabs a:has-text('Coherence')")
        expect(page.locator("#lanes .wave path")).to_have_count(1)
        page.select_option("#lanes [name=parameter]", _WIDTH)
        expect(page.locator("#lane")).to_contain_text("does not move")
        box = self.box(page.locator("#lane"))
        for count, (across, down) in enumerate(((0.2, 0.3), (0.6, 0.7)), start=1):
            page.mouse.click(box["x"] + across * box["width"], box["y"] + down * box["height"])
            expect(page.locator("#lane .point")).to_have_count(count)
            self.wait_for(lambda count=count: len(self.width()) == count)
        (early, wide), (late, narrow) = self.width()
        self.assertLess(early, late)
        self.assertGreater(wide, narrow)
        page.click("#lanes button:has-text('Phrase')")
        for name, value in (("value", "-0.4"), ("start_s", "20"), ("end_s", "22")):
            page.fill(f"#lane-phrase [name={name}]", value)
        page.click("button:has-text('Move and back')")
        expect(page.locator("#lane .point")).to_have_count(7)
        document = document_of(Mix.objects.get(pk=self.mix.pk))
        self.assertEqual(value_at(lanes_of(document, "hand_bells")[_WIDTH], 21.0), -0.4)
        # it stays open from workspace to workspace, and what is undone is gone there too
        page.click("#tabs a:has-text('Listen')")
        page.keyboard.press("Control+z")
        expect(page.locator("#lane .point")).to_have_count(2)
        page.click("#tabs a:has-text('Field')")
        expect(page.locator("#lanes")).to_be_hidden()
        page.click("#tabs a:has-text('Intake')")
        expect(page.locator("#lane .point")).to_have_count(2)
        page.click("#lanes-handle")
        expect(page.locator("#lanes")).to_be_hidden()

    def test_what_is_pressed_before_another_lane_is_there_changes_nothing(self) -> None:
        """However often the page around it is drawn anew meanwhile."""
        page = self.open()
        self.lamp(page, "flow/?strip=narrator_en")
        page.keyboard.press("w")
        lane = page.locator("#lane")
        still = "does not move"
        page.select_option("#lanes [name=parameter]", "gain_db")
        expect(lane).to_contain_text(still)
        asked = HeldBack(page, "**/lanes/?*")
        page.select_option("#lanes [name=parameter]", "placement/distance")
        asked.came()
        page.evaluate("htmx.trigger(document.body, 'htmx:afterSettle')")
        expect(lane).not_to_contain_text(still)
        box = self.box(lane)
        page.mouse.click(box["x"] + 0.5 * box["width"], box["y"] + 20)
        asked.let_go()
        expect(lane).to_contain_text(still)
        page.mouse.click(box["x"] + 0.5 * box["width"], box["y"] + 20)
        expect(lane.locator(".point")).to_have_count(1)
        lanes = lambda: lanes_of(document_of(Mix.objects.get(pk=self.mix.pk)), "narrator_en")  # noqa: E731
        self.wait_for(lambda: "placement/distance" in lanes())
        self.assertNotIn("gain_db", lanes())

    def test_a_fader_over_a_lane_trims_it_everywhere_and_shows_where_it_is(self) -> None:
        """In the table, the panel, the chart and while it plays; one press writes over."""
        self.mix = Mix.objects.get(title="The Lamp at Skerrow")
        owner = self.mix.members.get(role="owner").user
        points = Breakpoints([0.0, 40.0], [-20.0, 0.0])
        apply(self.mix, owner, DrawLane(strip="horn", path="gain_db", points=points))
        page = self.open()
        self.lamp(page, "flow/?view=table")
        gain = page.locator("#workspace input[data-set='horn gain_db']").first
        expect(gain).to_have_value("−20.0")
        gain.fill("-10")
        gain.press("Enter")
        self.wait_for(lambda: self.levels() == [-10.0, 10.0])
        self.player(page, "player.jump(20 * player.rate)")
        expect(gain).to_have_value("0.0")
        gain.fill("-6")
        gain.press("Enter")
        self.wait_for(lambda: self.levels() == [-16.0, 4.0])
        gain.blur()
        self.player(page, "void player.play()")
        page.wait_for_function(
            "box => Math.abs(parseFloat(box.value.replace('−', '-')) + 6) > 0.4",
            arg=gain.element_handle(),
        )
        self.player(page, "player.pause()")
        page.locator(".value.automated:has([data-set='horn gain_db']) .over").first.click()
        self.wait_for(lambda: self.levels() == [])
        expect(page.locator(".automated [data-set='horn gain_db']")).to_have_count(0)
        page.keyboard.press("Control+z")
        self.wait_for(lambda: self.levels() == [-16.0, 4.0])
        expect(page.locator(".automated [data-set='horn gain_db']").first).to_be_visible()

    def player(self, page: Page, expression: str) -> None:
        page.evaluate(f"import('/static/listen/player.js').then(({{ player }}) => {expression})")

    def levels(self) -> list[float]:
        lanes = lanes_of(document_of(Mix.objects.get(pk=self.mix.pk)), "horn")
        return lanes["gain_db"].points.values.tolist() if "gain_db" in lanes else []
