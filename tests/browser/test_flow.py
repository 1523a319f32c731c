"""Flow in the browser: routes drawn by hand, by keys and in bulk, undone.

A print made, woken and made again.
"""

import re

from playwright.sync_api import Page, expect

from metaphon.core.document.mix import PROGRAMME
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.snapshots import document_of
from tests.browser.server import WORK_MS, BrowserTest, HeldBack
from tests.web.base import StripOf, named


class Flow(BrowserTest):
    def flow(self, view: str) -> Page:
        page = self.open()
        self.mix = Mix.objects.get(title="The Lamp at Skerrow")
        page.goto(f"{self.address}/mix/{self.mix.pk}/flow/?view={view}")
        return page

    def named(self, name: str) -> StripOf:
        return named(self.mix, name)

    def names(self) -> list[str]:
        return [strip.name for strip in document_of(Mix.objects.get(pk=self.mix.pk)).strips]

    def drag(self, page: Page, start: str, end: str) -> None:
        # both in one turn: the map may be drawn anew at any time but while a hand is on it
        middles = page.evaluate(
            """async (names) => {
                const found = () => names.map((n) =>
                    document.querySelector(`#map[aria-busy="false"] .node[data-name="${n}"]`));
                while (found().includes(null)) await new Promise(requestAnimationFrame);
                return found().map((node) => {
                    const box = node.getBoundingClientRect();
                    return [box.x + box.width / 2, box.y + box.height / 2];
                });
            }""",
            [start, end],
        )
        page.mouse.move(*middles[0])
        page.mouse.down()
        page.mouse.move(middles[1][0] - 10, middles[1][1], steps=4)
        page.mouse.move(*middles[1])
        page.mouse.up()

    def test_routing_by_dragging_on_the_map_and_undo(self) -> None:
        page = self.flow("map")
        page.wait_for_selector(".node")
        self.drag(page, "Rain", "Boats")
        page.click("#drop-menu >> text=Main feed")
        self.wait_for(lambda: self.named("Rain").output == self.named("Boats").ref)
        self.settled(page)
        page.keyboard.press("Control+z")
        self.wait_for(lambda: self.named("Rain").output == PROGRAMME)
        back = f'.ribbons [data-from="s{self.named("Rain").ref}"][data-to="pbed0+5+0"]'
        self.wait_for(lambda: page.locator(back).count() == 1)
        self.settled(page)
        page.click('.node[data-name="Rowing boat"]', modifiers=["Control"])
        page.click('.node[data-name="Sea"]', modifiers=["Control"])
        expect(page.locator("#chosen [data-count]")).to_have_text("2 chosen")
        self.settled(page)
        self.drag(page, "Sea", "Boats")
        page.click("#drop-menu >> text=Send")
        boats = self.named("Boats").ref
        self.wait_for(
            lambda: all(
                boats in {send.bus for send in self.named(name).sends}
                for name in ("Rowing boat", "Sea")
            )
        )

    def test_routing_by_keys(self) -> None:
        page = self.flow("map")
        page.wait_for_selector(".node")
        page.focus('.node[data-name="Choir hum"]')
        page.keyboard.press("ArrowUp")
        self.assertEqual(page.evaluate("document.activeElement.dataset.name"), "Sea")
        page.keyboard.press("ArrowDown")
        page.keyboard.press("m")
        self.wait_for(lambda: self.named("Choir hum").muted)
        self.settled(page)
        page.wait_for_selector('.node.is-muted[data-name="Choir hum"]')
        page.focus('.node[data-name="Choir hum"]')
        page.keyboard.press("f")
        for _ in range(6):
            if page.evaluate("document.activeElement.dataset.name") == "Boats":
                break
            page.keyboard.press("ArrowUp")
        page.keyboard.press("Enter")
        page.keyboard.press("Enter")  # the first of the two: main feed
        self.wait_for(lambda: self.named("Choir hum").output == self.named("Boats").ref)
        self.settled(page)
        page.focus('.node[data-name="Choir hum"]')
        page.keyboard.press("Enter")
        expect(page.locator("#panel h2").first).to_have_text("Choir hum")

    def test_a_strip_opened_while_an_edit_is_on_its_way_stays_open(self) -> None:
        page = self.flow("map")
        page.wait_for_selector(".node")
        edit = HeldBack(page, "**/flow/edit", answered=True)
        sea = page.locator('.node[data-name="Sea"]')
        sea.focus()
        page.keyboard.press("m")
        edit.came()
        page.keyboard.press("Enter")
        expect(page.locator("#panel h2").first).to_have_text("Sea")
        edit.let_go()
        expect(sea).to_have_class(re.compile("is-muted"))
        expect(page.locator("#panel h2").first).to_have_text("Sea")
        expect(page.locator("#panel [aria-label='Mute Sea']")).to_have_attribute(
            "aria-pressed", "true"
        )

    def test_a_number_under_the_hand_is_sent_once_though_its_row_is_drawn_anew(self) -> None:
        page = self.flow("table")
        sent: list[str] = []
        page.on(
            "request",
            lambda r: sent.append(r.url) if "gain_db" in (r.post_data or "") else None,
        )
        gain = page.get_by_label("Rain gain", exact=True)
        before = self.named("Rain").gain_db
        gain.focus()
        page.keyboard.press("ArrowUp")
        # an edit of the same row whose answer draws it anew before the number is sent
        page.evaluate("""document.querySelector('[aria-label="Mute Rain"]').click()""")
        self.wait_for(lambda: self.named("Rain").muted and self.named("Rain").gain_db > before)
        self.settled(page)
        page.wait_for_timeout(500)  # longer than a nudge waits before it is sent
        self.assertEqual(len(sent), 1)
        expect(gain).to_be_focused()

    def test_many_at_once_in_the_table(self) -> None:
        page = self.flow("table")
        for name in ("Low drum one", "Low drum two"):
            page.check(f"[aria-label='Choose {name}']")
        page.select_option("[aria-label='Route the chosen']", label="Boats")
        page.click("#chosen [data-do=feed]")
        self.wait_for(
            lambda: all(
                self.named(f"Low drum {n}").output == self.named("Boats").ref
                for n in ("one", "two")
            )
        )
        expect(page.get_by_label("Low drum one feeds")).to_have_value(self.named("Boats").ref)
        expect(page.get_by_label("Choose Low drum one")).to_be_checked()
        gain = page.get_by_label("Low drum one gain").first
        gain.fill("-9")
        gain.press("Enter")
        self.wait_for(lambda: self.named("Low drum two").gain_db == -9.0)
        expect(page.get_by_label("Low drum two gain").first).to_have_value("−9.0")
        page.keyboard.press("Escape")
        page.locator("#undo").click()
        self.wait_for(lambda: self.named("Low drum two").gain_db == -7.0)

    def order(self) -> list[str]:
        return [track.name for track in document_of(Mix.objects.get(pk=self.mix.pk)).tracks]

    def test_tracks_are_put_in_order_by_dragging_and_by_keys(self) -> None:
        for place, row in (("flow/?view=table", "tbody"), ("intake/", "#tracks .head")):
            page = self.flow("table")
            page.goto(f"{self.address}/mix/{self.mix.pk}/{place}")
            self.settled(page)
            before = self.order()
            rows = page.locator(f"{row}[data-among=tracks]")
            start = self.box(rows.nth(0).locator("[data-grip]"))
            aim = self.box(rows.nth(2))
            page.mouse.move(start["x"] + 4, start["y"] + 8)
            page.mouse.down()
            page.mouse.move(start["x"] + 4, start["y"] + 40, steps=3)
            page.mouse.move(start["x"] + 4, aim["y"] + aim["height"] - 3, steps=3)
            page.mouse.up()
            moved = [*before[1:3], before[0], *before[3:]]
            self.wait_for(lambda moved=moved: self.order() == moved)
            self.settled(page)
            held = rows.nth(2).locator("button, a").first
            held.focus()
            page.keyboard.press("Alt+ArrowUp")
            self.wait_for(lambda before=before: self.order()[1] == before[0])
            self.settled(page)
            page.locator("#undo").click()
            self.wait_for(lambda moved=moved: self.order() == moved)
            self.settled(page)
            page.locator("#undo").click()
            self.wait_for(lambda before=before: self.order() == before)
            page.context.close()

    def test_rows_are_searched_folded_by_group_and_hidden(self) -> None:
        page = self.flow("table")
        names = page.locator("#flowtable tbody[data-name]:visible")
        whole = names.count()
        page.fill("#find-rows", "low DRUM")
        expect(names).to_have_count(2)
        page.check("#choose-all")
        page.fill("#chosen input[name=name]", "Drums")
        page.click("#chosen form button")
        expect(page.locator(".section-head")).to_contain_text("Drums")
        expect(names).to_have_count(2)  # still searched for
        page.fill("#find-rows", "")
        page.click("[data-fold-group]")
        expect(names).to_have_count(whole - 2)
        page.reload()
        expect(names).to_have_count(whole - 2)
        page.click("[data-fold-group]")
        expect(names).to_have_count(whole)
        page.check("[aria-label='Choose Rain']")
        page.click("#chosen button:text-is('Hide')")
        expect(names).to_have_count(whole - 1)
        expect(page.locator("#chosen")).to_be_hidden()
        page.click("text=Show 1 hidden")
        expect(names).to_have_count(whole)
        page.locator("#undo").click()
        expect(page.locator(".section-head")).to_have_count(0)

    def test_a_new_bus_from_the_chosen_is_fed_open_and_in_every_menu(self) -> None:
        page = self.flow("table")
        for name in ("Low drum one", "Low drum two"):
            page.check(f"[aria-label='Choose {name}']")
        page.click("#chosen button:text-is('New bus')")
        expect(page.locator("#panel h2").first).to_have_text("Bus")
        bus = self.named("Bus")
        self.assertEqual(bus.layout, "0+5+0")  # as wide as the mix
        for name in ("Low drum one", "Low drum two"):
            self.assertEqual(self.named(name).output, bus.ref)
        for menu in page.locator("select[data-menu=feeds], select[data-menu=buses]").all():
            if "Bus feeds" not in (menu.get_attribute("aria-label") or ""):
                told = menu.locator("option").all_text_contents()
                if menu.get_attribute("aria-label") != "Send Bus to":
                    self.assertIn("Bus", told)
        page.locator("#undo").click()
        self.wait_for(lambda: "Bus" not in self.names())

    def test_processors_are_dragged_and_a_chain_is_saved_loaded_and_copied(self) -> None:
        page = self.flow("table")
        self.settled(page)
        page.click("[data-strip]:has-text('Harmonium')")
        chips = page.locator("#panel .chip-part")
        for label in ("Equaliser", "Basics"):
            page.select_option("#panel [name=processor]", label=label)
            count = chips.count()
            page.click("#panel button:text-is('Add')")
            expect(chips).to_have_count(count + 1)
            self.settled(page)

        def kinds(name: str) -> list[str]:
            return self.named(name).kinds

        before = kinds("Harmonium")
        start, aim = self.box(chips.nth(len(before) - 1)), self.box(chips.nth(0))
        page.mouse.move(start["x"] + 20, start["y"] + 8)
        page.mouse.down()
        page.mouse.move(start["x"] + 5, start["y"] + 8, steps=3)
        page.mouse.move(aim["x"] + 4, aim["y"] + 8, steps=3)
        page.mouse.up()
        self.wait_for(lambda: kinds("Harmonium") == [before[-1], *before[:-1]])
        self.settled(page)
        page.fill("#panel [name=name][placeholder='Name of this chain']", "Mild")
        page.click("text=Save chain")
        expect(page.get_by_label("Load a chain").locator("option")).to_contain_text(["Mild"])
        page.click("#strip-horn .name")
        expect(page.locator("#panel h2").first).to_have_text("Ship's horn")
        page.get_by_label("Load a chain").select_option(label="Mild")
        self.wait_for(lambda: kinds("Ship's horn") == kinds("Harmonium"))
        self.settled(page)
        page.check("[aria-label='Choose Rain']")
        for button, times in (("Add", 1), ("Add", 2), ("Replace", 1)):
            page.click(f"#panel .chain-tools button:text-is('{button}')")
            self.wait_for(lambda times=times: kinds("Rain") == kinds("Harmonium") * times)
            self.settled(page)

    def test_a_chain_in_the_panel(self) -> None:
        page = self.flow("table")
        page.click("[data-strip]:has-text('Harmonium')")
        page.select_option("[aria-label=Processor]", label="Equaliser")
        page.click("#panel >> text=Add >> nth=0")
        page.click("#panel >> text=Add band")
        band = page.get_by_label("Band 1, Gain")
        band.fill("6")
        band.press("Enter")
        self.wait_for(lambda: self.named("Harmonium").chain[0].bands[0].gain_db == 6.0)
        page.select_option("[aria-label='Equaliser, phase']", value="linear")
        expect(page.locator("#panel .part .head .fig").first).to_contain_text("3840")
        page.click("[aria-label='Bypass Equaliser']")
        expect(page.locator("[aria-label='Bypass Equaliser']")).to_have_attribute(
            "aria-pressed", "true"
        )

    def test_colour_and_note_are_kept_and_shown_in_other_views(self) -> None:
        page = self.flow("table")
        page.click('button[data-strip="rain"]')
        page.click("#panel .swatch[data-colour=cyan]")
        self.wait_for(lambda: self.named("Rain").colour == "cyan")
        expect(page.locator("#strip-rain td[data-colour]")).to_have_attribute("data-colour", "cyan")
        page.get_by_label("Note on Rain").fill("on")  # a word that is a switch elsewhere
        page.evaluate("document.querySelector('#panel textarea').dataset.old = 'yes'")
        page.locator("#panel").get_by_label("Rain gain").fill("-9")
        page.keyboard.press("Enter")
        self.wait_for(lambda: self.named("Rain").gain_db == -9.0)
        expect(page.locator("#panel textarea[data-old]")).to_have_count(0)  # drawn anew
        expect(page.get_by_label("Note on Rain")).to_have_value("on")  # half typed
        page.click('button[data-strip="sea"]')
        expect(page.get_by_label("Note on Sea")).to_have_value("")
        page.click('button[data-strip="rain"]')
        expect(page.get_by_label("Note on Rain")).to_have_value("on")
        page.click("text=Keep note")
        self.wait_for(lambda: self.named("Rain").note == "on")
        expect(page.locator("#strip-rain .noted")).to_have_attribute("aria-label", "Note: on")
        for view, place in (("intake", ".timeline .head"), ("field", "tr td")):
            page.goto(f"{self.address}/mix/{self.mix.pk}/{view}/")
            marked = page.locator(f"{place}[data-colour=cyan]", has_text="Rain")
            stripe = marked.evaluate("one => getComputedStyle(one).boxShadow")
            self.assertIn("oklch", stripe)
        page.keyboard.press("Control+z")
        self.wait_for(lambda: self.named("Rain").note == "")

    def test_a_strip_is_sent_to_the_lfe(self) -> None:
        page = self.flow("table")
        page.click('button[data-strip]:text-is("Ship\'s horn")')
        page.get_by_label("Ship's horn to the LFE", exact=True).click()
        level = page.locator("#panel").get_by_label("Ship's horn to the LFE, level")
        level.fill("-8")
        level.press("Enter")
        self.wait_for(lambda: self.named("Ship's horn").lfe.level_db == -8.0)
        self.assertTrue(self.named("Ship's horn").lfe.on)
        row = page.locator("#flowtable").get_by_label("Ship's horn to the LFE")
        expect(row).to_have_value("−8.0")
        page.keyboard.press("Control+z")
        page.keyboard.press("Control+z")
        self.wait_for(lambda: not self.named("Ship's horn").lfe.on)

    def test_a_finding_is_mended_with_one_press(self) -> None:
        page = self.flow("table")
        count = page.locator("#findings button .fig").first
        expect(count).to_have_text("5", timeout=WORK_MS)
        page.click("#findings > button")
        page.click("#findings-list >> text=Only through the bus")
        expect(count).to_have_text("4")
        self.assertNotEqual(self.named("Hand-bells").output, PROGRAMME)
        page.locator("#undo").click()
        expect(count).to_have_text("5")

    def test_print_wake_and_print_again(self) -> None:
        page = self.flow("table")
        page.click("[data-strip]:has-text('Gull')")
        page.click("#panel >> button:has-text('Print')")
        self.wait_for(lambda: self.named("Gull").resting, 60)
        page.wait_for_selector("[data-strip]:has-text('Gull print 1')")
        page.click("[data-fold]")
        page.click(f"#row-{self.named('Gull').ref} >> text=Wake")
        self.wait_for(lambda: not self.named("Gull").resting and self.named("Gull print 1").resting)
        self.settled(page)
        page.click("#panel >> button:has-text('Print again')")
        self.wait_for(
            lambda: "Gull print 2" in self.names() and not self.named("Gull print 2").resting, 60
        )

    def test_a_bed_becomes_objects_and_objects_a_scene_and_back_in_one_step_each(self) -> None:
        page = self.flow("table&strip=rain")
        before = document_of(Mix.objects.get(pk=self.mix.pk)).strips
        page.click("#panel >> text=Split into objects")
        expect(page.locator("#messages")).to_contain_text("Null in 5.1 (0+5+0): −")
        rain = [name for name in self.names() if name.startswith("Rain ")]
        self.assertEqual(
            sorted((name, self.named(name).placement.mode) for name in rain),
            [
                ("Rain LFE1", "bed"),
                *((f"Rain {label}", "object") for label in ("M+000", "M+030", "M+110")),
                *((f"Rain {label}", "object") for label in ("M-030", "M-110")),
            ],
        )
        self.assertTrue(self.named("Rain").resting)
        expect(page.locator(".pick[value=rain_m_030]")).to_be_visible()
        # all from the first to the last, with Shift, ticked or not
        page.locator(".pick[value=gull]").click()
        page.locator(".pick[value=horn]").click(modifiers=["Shift"])
        expect(page.locator("#chosen [data-count]")).to_have_text("3 chosen")
        page.click("#chosen >> text=To a scene")
        expect(page.locator("#messages")).to_contain_text("Null in Ambisonic 3: −")
        self.assertEqual(self.named("Gull").output, self.named("Scene").ref)
        self.settled(page)
        for _ in range(2):
            with page.expect_response(lambda r: "undo" in r.url):
                page.click("#undo")
        after = document_of(Mix.objects.get(pk=self.mix.pk)).strips
        self.assertEqual(after, before)
