"""What one person changes is drawn for the other, and takes nothing out of their hands."""

import re
from typing import Any

from playwright.sync_api import Page, expect

from metaphon.core.edits.chains import AddBand, AddProcessor
from metaphon.web.mixes.journal import apply
from metaphon.web.mixes.models import Member, Mix
from tests.browser.server import BrowserTest
from tests.web.base import StripOf, make_user

_SEND = (
    "command => import('/static/shell/edit.js').then(({ send }) => send(command, document.body))"
)


def _set(strip: str, path: str, value: float | str | bool) -> dict[str, Any]:
    return {"kind": "set", "strips": [strip], "path": path, "value": value}


def _number(place: str, strip: str, path: str, value: float, text: str) -> tuple[Any, ...]:
    return place, _set(strip, path, value), f"[data-set='{strip} {path}']", "value", text


# a page, what somebody else does, and how a part of the page looks then
_SHOWN = (
    _number("flow/?view=table", "rain", "gain_db", -13.0, "−13.0"),
    _number("flow/?view=map&strip=rain", "rain", "gain_db", -14.0, "−14.0"),
    _number(
        "coherence/?view=equaliser&strip=rain", "rain", "chain/0/bands/0/gain_db", -3.0, "−3.0"
    ),
    _number(
        "coherence/?view=width&strip=hand_bells", "hand_bells", "chain/0/correlation", 0.4, "0.40"
    ),
    _number("reverb/", "cave", "chain/0/size", 1.21, "1.21"),
    _number("reverb/?view=sends", "harmonium", "sends/cave/level_db", -7.5, "−7.5"),
    _number("field/", "horn", "placement/azimuth_deg", -61.0, "−61.0"),
    (
        "flow/?view=map",
        _set("sea", "muted", True),
        ".node[data-id=sea]",
        "class",
        re.compile("is-muted"),
    ),
    (
        "field/",
        _set("narrator_en", "placement/locked", True),
        "#field-chart .object[data-id=narrator_en] title",
        "text",
        "locked",
    ),
    (
        "intake/",
        {"kind": "move_clip", "strip": "horn", "place": 0, "start_s": 9.25},
        ".clip[data-strip=horn]",
        "data-start",
        re.compile("9.25"),
    ),
    (
        "intake/",
        {"kind": "add_marker", "at_s": 3.0, "name": "Squall"},
        ".markers",
        "text",
        "Squall",
    ),
    (
        "coherence/",
        {"kind": "rename", "strip": "buoy_near", "name": "Buoy by the quay"},
        "#workspace",
        "text",
        "Buoy by the quay",
    ),
    (
        "coherence/?view=phase&strip=hand_bells",
        {"kind": "rename", "strip": "hand_bells", "name": "Glass bells"},
        "#workspace",
        "text",
        "Glass bells",
    ),
    (
        "handover/",
        {"kind": "add_target", "name": "4+9+0"},
        "[aria-label='9.1.4 (4+9+0), the mix']",
        "checked",
        "",
    ),
    (
        "handover/?view=alternatives",
        {"kind": "set_alternative", "alternative": "norsk", "path": "name", "value": "Nynorsk"},
        "input[value=Nynorsk]",
        "value",
        "Nynorsk",
    ),
    (
        "listen/",
        {"kind": "rename_mix", "title": "The Lamp, once more"},
        "#mix-title",
        "text",
        "once",
    ),
)


class TwoHands(BrowserTest):
    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.mix = Mix.objects.get(title="The Lamp at Skerrow")
        cls.bo = make_user("bo")
        Member.objects.create(mix=cls.mix, user=cls.bo, role="editor")
        for command in (
            AddProcessor(strip="rain", processor="eq"),
            AddBand(strip="rain", place=0, shape="bell"),
            AddProcessor(strip="hand_bells", processor="widener"),
        ):
            apply(cls.mix, cls.bo, command)

    def at(self, page: Page, place: str) -> Page:
        page.goto(f"{self.address}/mix/{self.mix.pk}/{place}")
        page.wait_for_selector("#listen .play:not([disabled])")
        self.settled(page)
        return page

    def pair(self, place: str) -> tuple[Page, Page]:
        one, other = self.at(self.open(), place), self.at(self.open("bo"), place)
        for page in (one, other):
            expect(page.locator("#others .other")).to_have_count(1)
        return one, other

    def test_what_another_changes_is_drawn_in_every_workspace(self) -> None:
        one, other = self.pair("flow/?view=table")
        for place, command, part, what, wanted in _SHOWN:
            with self.subTest(place, command=command):
                self.at(one, place)
                one.evaluate("window.loaded = true")
                other.evaluate(_SEND, command)
                shown = expect(one.locator(part).first)
                if what == "value":
                    shown.to_have_value(wanted)
                elif what == "text":
                    shown.to_contain_text(wanted)
                elif what == "checked":
                    shown.to_be_checked()
                else:
                    shown.to_have_attribute(what, wanted)
                expect(one.locator("#messages")).to_contain_text("bo: ")
                if command["kind"] == "set":
                    expect(one.locator(".by-another[data-by=bo]").first).to_be_visible()
                if place == "field/" and command["path"].endswith("azimuth_deg"):
                    expect(one.locator("#field-chart .object.by-another")).to_have_count(1)
                self.assertTrue(one.evaluate("window.loaded"))  # in place, not loaded anew
                expect(other.locator(".by-another")).to_have_count(0)

    def test_what_is_in_hand_stays_in_hand(self) -> None:
        one, other = self.pair("flow/?view=table")
        gain = one.get_by_label("Gull gain", exact=True)
        gain.focus()
        one.keyboard.type("-1")  # half of -12
        other.evaluate(_SEND, _set("rain", "gain_db", -21.0))
        expect(one.get_by_label("Rain gain")).to_have_value("−21.0")
        one.wait_for_timeout(600)  # longer than a number that is stepped by keys rests
        expect(gain).to_be_focused()
        expect(gain).to_have_value("-1")
        one.keyboard.type("2")
        one.keyboard.press("Enter")
        self.wait_for(lambda: StripOf(self.mix, "gull").gain_db == -12.0)
        # an open box with a name half typed and a choice made
        one.click("text=New bus")
        box = one.locator("#new-bus")
        box.locator("[name=name]").fill("Under wat")
        box.locator("select[name=layout]").select_option(index=2)
        chosen = box.locator("select[name=layout]").input_value()
        other.evaluate(_SEND, _set("rain", "gain_db", -22.0))
        expect(one.get_by_label("Rain gain")).to_have_value("−22.0")
        expect(box).to_be_visible()
        expect(box.locator("[name=name]")).to_have_value("Under wat")
        expect(box.locator("select[name=layout]")).to_have_value(chosen)
        box.locator("[name=name]").press("End")
        other.evaluate(_SEND, _set("rain", "gain_db", -23.0))
        expect(one.get_by_label("Rain gain")).to_have_value("−23.0")
        one.wait_for_timeout(200)
        one.keyboard.type("er")
        expect(box.locator("[name=name]")).to_have_value("Under water")

    def test_what_another_holds_is_marked(self) -> None:
        one, other = self.pair("flow/?view=table")
        other.get_by_label("Gull gain", exact=True).focus()
        held = one.locator(".value.held-by:has([data-set='gull gain_db'])")
        expect(held).to_have_attribute("data-holder", "bo")
        third = self.at(self.open(), "field/")
        self.at(third, "flow/?view=table")
        expect(third.locator(".value.held-by:has([data-set='gull gain_db'])")).to_have_count(1)
        other.locator("body").click(position={"x": 640, "y": 740})
        expect(one.locator(".held-by")).to_have_count(0)

    def test_of_two_hands_on_one_value_the_later_wins_and_both_are_told(self) -> None:
        one, other = self.pair("flow/?view=table")
        told = "demo and bo set the same at once; bo's stays (Rain: gain -2 dB)."
        # the other's page has not heard of the first edit yet
        other.evaluate(
            "import('/static/together/around.js').then(({ around }) => around.hear = () => {})"
        )
        one.evaluate(_SEND, _set("rain", "gain_db", -31.0))
        other.evaluate(_SEND, _set("rain", "gain_db", -2.0))
        expect(one.locator("#messages")).to_contain_text(told)
        expect(one.get_by_label("Rain gain")).to_have_value("−2.0")
        expect(other.get_by_label("Rain gain")).to_have_value("−2.0")

    def test_lanes_and_steps_back_of_another_are_drawn(self) -> None:
        one, other = self.pair("flow/?view=table&strip=sea")
        one.evaluate("localStorage.setItem('lanes', 'open')")
        self.at(one, "flow/?view=table&strip=sea")
        lane = {"strip": "sea", "path": "gain_db", "kind": "set_breakpoint", "t_s": 5.0}
        other.evaluate(_SEND, {**lane, "value": -7.0})
        other.evaluate(_SEND, {**lane, "t_s": 15.0, "value": -17.0})
        expect(one.locator("#panel .value.automated:has([data-set='sea gain_db'])")).to_be_visible()
        self.wait_for(
            lambda: (
                "−17" in one.locator("#lanes").inner_text()
                or "-17" in one.locator("#lanes").inner_html()
            )
        )
        other.locator("#undo").click()
        other.locator("#undo").click()
        expect(one.locator("#panel .value.automated")).to_have_count(0)
        expect(one.locator("#messages")).to_contain_text("bo: Undid")

    def test_own_edits_beside_those_of_another_miss_nothing(self) -> None:
        one, other = self.pair("flow/?view=table")
        for n in range(4):
            one.evaluate(_SEND, _set("sea", "gain_db", -1.0 - n))
            other.evaluate(_SEND, _set("horn", "gain_db", -5.0 - n))
        for page in (one, other):
            expect(page.get_by_label("Sea gain", exact=True)).to_have_value("−4.0")
            expect(page.get_by_label("Ship's horn gain", exact=True)).to_have_value("−8.0")
