"""Live listening in a real browser against the real server: the sound itself is looked at."""

import json
import random
import re
import threading
import time
from collections.abc import Callable
from itertools import pairwise
from pathlib import Path
from typing import Any

import numpy as np
from playwright.sync_api import Page, expect
from websockets.exceptions import ConnectionClosed, InvalidStatus
from websockets.sync.client import connect
from websockets.sync.server import ServerConnection, serve

from metaphon.core.edits.chains import AddProcessor, RemoveProcessor
from metaphon.core.listen.monitor import Monitor
from metaphon.core.listen.serving import packed
from metaphon.web.mixes import journal
from metaphon.web.mixes.models import Member, Mix
from tests.browser.server import BrowserTest
from tests.core.test_edits import ALL
from tests.nasty import as_json, spoiled, text
from tests.runner import long_test
from tests.sounds import unpacked
from tests.web.base import StripOf, make_user, named

TAP = (Path(__file__).parent / "tap.js").read_text().split("\n", 1)[1]
SINK = (Path(__file__).parent / "sink.js").read_text().split("\n", 2)[2]
QUANTUM = 128  # frames that an audio thread works on at once
PLAYER = "import('/static/listen/player.js').then(({ player }) => %s)"


class Live(BrowserTest):
    def begin_at(self, page: Page, workspace: str) -> Mix:
        mix = Mix.objects.get(title="The Lamp at Skerrow")
        page.goto(f"{self.address}/mix/{mix.pk}/{workspace}")
        page.wait_for_selector("#listen .play:not([disabled])")
        return mix

    def player(self, page: Page, expression: str) -> Any:
        return page.evaluate(PLAYER % expression)

    def plays_on(self, page: Page, seconds: float = 0.5) -> None:
        """Whether sound goes on: forwards, or round a loop."""
        before = self.player(page, "player.position")
        self.wait_for(
            lambda: not 0 <= self.player(page, "player.position") - before < seconds * 48000, 20
        )
        self.assertTrue(self.player(page, "player.playing"))

    def test_an_edit_is_heard_and_the_sound_goes_on_from_page_to_page(self) -> None:
        page = self.open()
        self.begin_at(page, "flow/?view=table")
        self.player(
            page, "player.setMonitorSource({ target: '0+2+0', what: 'stem', strip: 'rain' }, 'a')"
        )
        self.player(
            page, "player.set({ loop: [0, 50 * 48000] })"
        )  # so that a slow machine does not reach the end
        page.keyboard.press("Space")
        self.wait_for(lambda: self.player(page, "player.position") > 24000)
        page.evaluate(TAP)
        self.wait_for(lambda: page.evaluate("level()") > 1e-4)
        self.assertIsNotNone(
            page.evaluate("untilHeard('Rain gain', '-60', 0.2)"),
            "the fader going down is not heard",
        )
        expect(page.get_by_label("Rain gain", exact=True)).to_have_value("−60.0")
        self.wait_for(
            lambda: StripOf(Mix.objects.get(title="The Lamp at Skerrow"), "rain").gain_db == -60.0
        )
        self.assertIsNotNone(
            page.evaluate("untilHeard('Rain gain', '0', 5)"), "the fader going up is not heard"
        )
        page.click("button[aria-label='Mute Rain']")
        self.wait_for(lambda: page.evaluate("level()") < 1e-6)
        page.click("#undo")
        self.wait_for(lambda: page.evaluate("level()") > 1e-4)
        for place in ("Intake", "Listen", "Handover", "Flow"):
            page.click(f"nav >> text={place}")
            self.settled(page)
            self.plays_on(page, 0.3)
        correlation = page.locator("[data-figure=correlation]")
        expect(correlation).to_have_text(re.compile(r"^[−\d.]+$"))
        page.locator("body").press("1")
        expect(page.locator(".chip")).to_have_text("Mono")
        expect(correlation).to_have_text("1.00")
        page.locator("body").press("0")
        expect(page.locator(".chip")).to_have_count(0)
        page.keyboard.press("Space")
        expect(page.locator("#listen .play")).to_have_text("Play")
        held = self.player(page, "player.position")
        page.wait_for_timeout(300)
        self.assertEqual(self.player(page, "player.position"), held)

    def test_where_a_server_is_full_or_silent_the_next_one_plays(self) -> None:
        """A stand-in that is always full, a port where nobody is, and the server itself."""

        def full(socket: ServerConnection) -> None:
            asked.append(str(socket.request and socket.request.path))
            socket.send(json.dumps({"ready": True}))
            for message in socket:
                if json.loads(message).get("do") == "play":
                    refused = {"message": "No room.", "stopped": True, "full": True}
                    socket.send(json.dumps(refused))

        asked: list[str] = []
        server = self.enterContext(serve(full, "127.0.0.1", 0))
        threading.Thread(target=server.serve_forever, daemon=True).start()
        crowded = server.socket.getsockname()[1]
        own = self.listen_address.rpartition(":")[2]
        page = self.open(bypass_csp=True)
        page.on("console", lambda told: self.faults.clear() if "ws://" in told.text else None)
        self.begin_at(page, "listen/")
        ports = f"['{crowded}', '9', '{own}']"
        self.player(
            page,
            "Object.assign(player.places, { at: 0, urls: "
            f"{ports}.map((port) => player.places.urls[0].replace('{own}', port)) }})",
        )
        page.click("#listen .play")
        self.plays_on(page)
        self.assertEqual(len(asked), 1)
        page.click("#listen .play")
        self.player(page, "player.wire.postMessage({ close: true })")
        self.player(
            page,
            "Object.assign(player.places, { at: 0, tried: 0, "
            "urls: [player.places.urls[0], player.places.urls[0]] })",
        )
        page.click("#listen .play")
        expect(page.locator("#messages")).to_contain_text("No room.")  # all of them are
        self.wait_for(lambda: not self.player(page, "player.playing"))

    def test_before_the_server_answers_it_is_said_and_the_sound_begins_when_it_does(self) -> None:
        page = self.open(bypass_csp=True)
        page.on("console", lambda told: self.faults.clear() if "ws://" in told.text else None)
        self.begin_at(page, "listen/")
        own = self.player(page, "player.places.urls")
        nobody = f"['{own[0].replace(self.listen_address.rpartition(':')[2], '9')}']"
        self.player(page, f"Object.assign(player.places, {{ at: 0, urls: {nobody} }})")
        page.click("#listen .play")
        expect(page.locator("#messages")).to_contain_text("does not answer yet")
        self.player(page, f"Object.assign(player.places, {{ at: 0, urls: {own} }})")
        self.plays_on(page)

    def test_space_plays_whatever_was_pressed_with_the_mouse_before(self) -> None:
        """And presses the button that was gone to by the keys."""
        page = self.open()
        mix = self.begin_at(page, "flow/?view=table")
        play = page.locator("#listen .play")
        mute = page.locator("button[aria-label='Mute Rain']")
        mute.click()
        expect(mute).to_have_attribute("aria-pressed", "true")
        page.keyboard.press("Space")
        expect(play).to_have_text("Pause")
        page.click("#undo")
        expect(mute).to_have_attribute("aria-pressed", "false")
        page.evaluate("htmx.trigger(document.body, 'htmx:afterSettle')")
        page.click("#tabs a:has-text('Intake')")
        page.wait_for_selector("#tracks")
        page.keyboard.press("Space")
        expect(play).to_have_text("Play")
        page.goto(f"{self.address}/mix/{mix.pk}/flow/?view=table")
        page.locator("button[aria-label='Mute Gull']").focus()
        page.keyboard.press("Tab")
        page.keyboard.press("Shift+Tab")
        page.keyboard.press("Space")
        expect(page.locator("button[aria-label='Mute Gull']")).to_have_attribute(
            "aria-pressed", "true"
        )
        expect(play).to_have_text("Play")

    def test_a_beginning_that_comes_after_a_pause_is_not_played(self) -> None:
        """A stand-in answers late: when it was to play, the listener has paused."""

        def late(socket: ServerConnection) -> None:
            socket.send(json.dumps({"ready": True}))
            for message in socket:
                if json.loads(message).get("do") != "pause":
                    continue
                header = {"epoch": 1, "stream": 0, "first": 96000, "frames": 48000, "channels": 2}
                socket.send(json.dumps({"epoch": 1, "at": 96000}))
                socket.send(packed(header | {"readings": {}}, np.full((2, 48000), 0.5)))
                socket.send(json.dumps({"message": "That was late."}))

        server = self.enterContext(serve(late, "127.0.0.1", 0))
        threading.Thread(target=server.serve_forever, daemon=True).start()
        page = self.open(bypass_csp=True)
        self.begin_at(page, "listen/")
        port = server.socket.getsockname()[1]
        own = self.listen_address.rpartition(":")[2]
        self.player(
            page,
            "Object.assign(player.places, "
            f"{{ urls: [player.places.urls[0].replace('{own}', '{port}')] }})",
        )
        page.keyboard.press("Space")
        self.wait_for(lambda: self.player(page, "player.answered"))
        page.evaluate(TAP)
        page.keyboard.press("Space")
        expect(page.locator("#messages")).to_contain_text("That was late.")
        page.wait_for_timeout(200)
        self.assertEqual(self.player(page, "player.position"), 0)
        self.assertEqual(page.evaluate("level()"), 0)

    def test_what_is_found_is_gone_through_one_by_one(self) -> None:
        page = self.open()
        mix = self.begin_at(page, "flow/")
        page.click("#findings-button")
        page.click("#findings-list >> text=One by one")
        page.keyboard.press("Escape")
        steps = page.locator("#steps")
        expect(steps).to_contain_text("1 of ")
        page.click("#steps >> text=Hear it")
        self.wait_for(lambda: self.player(page, "player.position") > 4800)
        self.assertEqual(self.player(page, "player.state.monitor_sources.a.what"), "stem")
        revision = mix.revision
        page.click("#steps >> text=Only through the bus")
        expect(steps).to_contain_text("Mended")
        page.click("#steps >> text=Next")
        expect(steps).to_contain_text("2 of ")
        page.click("#steps >> text=See it in")
        expect(steps).to_contain_text("2 of ")  # on another page too
        page.click("#steps >> text=Leave")
        expect(steps).not_to_contain_text("One by one")
        mix.refresh_from_db()
        self.assertEqual(mix.revision, revision + 1)

    def test_jumps_loops_and_the_end(self) -> None:
        page = self.open()
        self.begin_at(page, "listen/")
        page.fill("#listen .now", "00:57.0")
        page.keyboard.press("Enter")
        self.player(page, "player.set({ loop: [57 * 48000, 58 * 48000] })")
        page.click("#listen .play")
        self.wait_for(lambda: self.player(page, "player.current !== null"))
        places: list[float] = []

        def turns() -> int:
            page.wait_for_timeout(150)
            places.append(self.player(page, "player.position") / 48000)
            return sum(b < a for a, b in pairwise(places))

        self.wait_for(lambda: turns() == 2)
        self.assertTrue(all(56.9 < place < 58.2 for place in places), places)
        self.player(page, "player.set({ loop: null })")
        page.fill("#listen .now", "rubbish")
        page.keyboard.press("Enter")
        expect(page.locator("#messages")).to_contain_text("no such place")
        page.keyboard.press("Escape")
        self.player(page, "player.jump(player.frames() - 24000)")
        self.wait_for(lambda: not self.player(page, "player.playing"), 20)
        self.assertEqual(page.locator("#listen .play").inner_text(), "Play")

    def test_a_blind_comparison(self) -> None:
        page = self.open()
        self.begin_at(page, "listen/?view=compare")
        page.select_option("[data-bind='monitor_sources.a.target']", "0+5+0")
        page.select_option("[data-bind='monitor_sources.b.target']", "0+2+0")
        page.click("#listen .play")
        page.click("button:has-text('Compare A and B')")
        self.plays_on(page)
        page.locator(".side[data-side=b] .big").click()
        expect(page.locator(".side.heard")).to_have_attribute("data-side", "b")
        page.locator("body").press("b")
        expect(page.locator(".side.heard")).to_have_attribute("data-side", "a")
        self.wait_for(
            lambda: any(
                text not in ("0.0 dB", "–") for text in page.locator(".applied").all_inner_texts()
            )
        )
        page.click("[data-blind]")
        for answer in ("a", "b", "a"):
            self.plays_on(page, 0.2)
            page.click(f"[data-answer={answer}]")
        expect(page.locator(".score")).to_contain_text("of 3 right")
        self.wait_for(lambda: self.player(page, "player.current?.readings.blind"))
        page.click("[data-blind]")
        expect(page.locator("[data-answer=a]")).to_be_disabled()
        self.plays_on(page)

    def test_a_stream_that_is_cut_goes_on_where_it_was(self) -> None:
        page = self.open()
        self.begin_at(page, "listen/")
        page.click("#listen .play")
        self.wait_for(lambda: self.player(page, "player.position") > 96000)
        before = self.player(page, "player.position")
        self.player(page, "player.wire.postMessage({ close: true })")
        page.wait_for_timeout(400)
        self.plays_on(page, 0.5)
        self.assertGreater(self.player(page, "player.position"), before)
        self.assertLess(self.player(page, "player.position"), before + 10 * 48000)

    def test_headphones_and_loudspeakers_are_set_and_kept(self) -> None:
        page = self.open()
        self.begin_at(page, "listen/?view=headphones")
        page.click("[data-correct]")
        page.wait_for_selector(".responses path.after")
        page.click("button[data-on=virtual_pair]")
        expect(page.locator(".chip")).to_have_text(["Virtual pair", "Corrected"])
        page.click("summary:has-text('Presets')")
        page.fill("[data-keep-preset] [name=name]", "Evening")
        page.click("[data-keep-preset] button")
        page.wait_for_selector("[data-preset]", state="attached")
        self.player(
            page, "player.set({ monitor: { through: 'plain', checks: {}, silent: [], alone: [] } })"
        )
        page.click("[data-preset]")  # the fold has stayed open over the redraw
        self.assertEqual(self.player(page, "player.state.monitor.through"), "virtual_pair")
        page.click("a:has-text('Loudspeakers')")
        page.click("[data-calibrate]")
        expect(page.locator(".told li")).to_have_count(4)
        page.click("[data-apply]")
        self.assertEqual(
            self.player(page, "player.state.monitor.loudspeakers.loudspeakers[4].output"), 6
        )
        page.click("button:has-text('Coded')")
        page.click("#listen .play")
        self.plays_on(page)

    def test_the_place_is_shown_whole_in_every_form(self) -> None:
        page = self.open()
        self.begin_at(page, "flow/")
        page.evaluate("import('/static/listen/player.js').then((m) => m.player.jump(55.7 * 48000))")
        clock, place = page.locator("[data-clock]"), page.locator("#listen .now")
        forms = [one.get_attribute("value") or "" for one in clock.locator("option").all()]
        self.assertGreater(len(forms), 6)
        for form in forms:
            clock.select_option(form)
            self.assertTrue(
                place.evaluate("field => field.scrollWidth <= field.clientWidth"),
                (form, place.input_value()),
            )

    def test_timecode(self) -> None:
        """SMPTE ST 12-1: the first numbers left out, and none at ten minutes.

        An hour of drop-frame is an hour.
        """
        page = self.open()
        self.begin_at(page, "listen/")
        cases = (
            (1800, "29.97drop", "00:01:00;02"),
            (1799, "29.97drop", "00:00:59;29"),
            (17982, "29.97drop", "00:10:00;00"),
            (107892, "29.97drop", "01:00:00;00"),
            (107892, "29.97", "00:59:56:12"),
            (90000, "25", "01:00:00:00"),
            (36, "24", "00:00:01:12"),
            (45, "30", "00:00:01:15"),
        )
        for count, form, words in cases:
            rate = {"29.97drop": 30000 / 1001, "29.97": 30000 / 1001}.get(form, float(form[:2]))
            frame = -(-count * 48000 // rate)
            shown, back = page.evaluate(
                "([frame, form]) => import('/static/listen/timecode.js').then(({ shown, read }) => "
                "[shown(frame, 48000, form), read(shown(frame, 48000, form), 48000, form)])",
                [frame, form],
            )
            self.assertEqual(shown, words)
            self.assertLessEqual(abs(back - frame), 1)

    # the audio thread's own part, fed by hand: what comes in goes out to the sample, and nothing
    # clicks

    def run_sink(
        self, seconds: float, *steps: tuple[float, list[dict[str, Any]]]
    ) -> tuple[np.ndarray, list[dict[str, Any]]]:
        page = self.open()
        page.goto(self.address)
        found = page.evaluate(
            SINK, [[{"at": at, "send": messages} for at, messages in steps], seconds]
        )
        return np.array([found["left"], found["right"]]), found["reports"]

    @staticmethod
    def stretch(
        first: float, slope: float, count: int, whole: int = 1, channels: int = 2
    ) -> dict[str, Any]:
        return {"whole": whole, "samples": [first, slope, count, channels]}

    def test_it_says_how_little_was_left_to_play(self) -> None:
        """By which the engine knows how far ahead it has to be."""
        _, reports = self.run_sink(
            0.5,
            (0, [self.stretch(0.1, 0.0, 9600)]),
            (0.15, [self.stretch(0.1, 0.0, 9600)]),  # a quarter of the first is left
            (0.3, [{"ended": True}]),  # and then it may run out
        )
        least = [one["least"] for one in reports if one["least"] is not None]
        self.assertTrue(2400 - 128 <= min(least[:8]) <= 2400 + 128, least)
        self.assertEqual(sum(one["gaps"] for one in reports), 0)
        self.assertGreater(min(least), 2000)  # what is the end is not too little

    def test_stretches_of_any_length_join_to_the_sample(self) -> None:
        slope = 1e-5
        parts, at = [], 0
        for count in (700, 2048, 1, 333, 4096):
            parts.append(self.stretch(at * slope, slope, count))
            at += count
        sound, reports = self.run_sink(0.5, (0, [*parts, {"ended": True}]))
        begin = int(np.argmax(sound[0] != 0)) - 1
        np.testing.assert_allclose(
            sound[0, begin + 300 : begin + at], np.arange(300, at) * slope, atol=1e-6
        )
        np.testing.assert_allclose(sound[1], -sound[0], atol=1e-7)
        self.assertEqual(np.abs(sound[:, begin + at :]).max(), 0.0)
        self.assertEqual(sum(report["gaps"] for report in reports), 0, "the end is no gap")
        self.assertEqual(max(report["frames"] for report in reports), at)

    def test_running_dry_counts_once_and_comes_back_softly(self) -> None:
        sound, reports = self.run_sink(
            0.6,
            (0, [self.stretch(0.5, 0.0, 4800)]),
            (0.3, [self.stretch(0.5, 0.0, 4800)]),
        )
        self.assertEqual(
            sum(report["gaps"] for report in reports), 2
        )  # after the first and after the last
        back = round(0.3 * 48000 / QUANTUM) * QUANTUM
        self.assertEqual(np.abs(sound[:, 10000 : back - QUANTUM]).max(), 0.0)
        again = sound[0, back - 2 * QUANTUM : back + 4000]
        self.assertLess(np.abs(np.diff(again)).max(), 0.5 / 200)
        self.assertAlmostEqual(float(again[-1]), 0.5, places=6)

    def test_a_jump_passes_over_and_what_comes_late_of_the_old_is_dropped(self) -> None:
        sound, reports = self.run_sink(
            0.5,
            (0, [self.stretch(0.4, 0.0, 24000, whole=1)]),
            (0.2, [self.stretch(-0.4, 0.0, 9600, whole=2), self.stretch(0.9, 0.0, 9600, whole=1)]),
        )
        self.assertLess(np.abs(np.diff(sound[0, 2000:18000])).max(), 0.8 / 150)
        self.assertAlmostEqual(float(sound[0, 9000]), 0.4, places=6)
        self.assertAlmostEqual(float(sound[0, 12000]), -0.4, places=6)
        self.assertLess(np.abs(sound).max(), 0.5)
        self.assertEqual({report["whole"] for report in reports if report["frames"]}, {1, 2})

    def test_going_ahead_and_waiting_pass_over_to_the_sample(self) -> None:
        slope = 1e-5
        sound, reports = self.run_sink(
            0.55,
            (0, [self.stretch(0.0, slope, 24000)]),
            (0.2, [{"skip": 2400}]),
            (0.3, [{"skip": -2400}]),
        )
        begin = int(np.argmax(sound[0] != 0)) - 1
        there = np.arange(11000, 14000)
        np.testing.assert_allclose(
            sound[0, begin + there], (there + 2400) * slope, atol=1e-6, err_msg="farther"
        )
        back = np.arange(18000, 20000)
        waited = round(back[0] - sound[0, begin + back[0]] / slope)
        self.assertLessEqual(abs(waited), QUANTUM, "as far as if nothing had been")
        np.testing.assert_allclose(sound[0, begin + back], (back - waited) * slope, atol=1e-6)
        self.assertLess(np.abs(np.diff(sound[0, begin : begin + 20000])).max(), 0.25 / 150)
        self.assertEqual(max(report["frames"] for report in reports), 24000)
        self.assertEqual(sum(report["gaps"] for report in reports), 1)  # after the last

    def test_pausing_fades_and_more_channels_than_outputs_do_no_harm(self) -> None:
        sound, reports = self.run_sink(
            0.4, (0, [self.stretch(0.5, 0.0, 19200, channels=6)]), (0.2, [{"quiet": True}])
        )
        self.assertAlmostEqual(float(sound[1, 9000]), -0.5, places=6)
        self.assertLess(np.abs(np.diff(sound[0, 2000:])).max(), 0.5 / 200)
        self.assertEqual(np.abs(sound[:, 10200:]).max(), 0.0)
        self.assertEqual(sum(report["gaps"] for report in reports), 0)


class ConnectionTest(BrowserTest):
    """Connections without a browser."""

    def connect(self, mix: Mix, headers: dict[str, str], origin: str | None) -> Any:
        address = f"{self.listen_address}/mix/{mix.pk}/listen/live"
        return connect(address, additional_headers=headers, origin=origin, open_timeout=30)  # type: ignore[arg-type]

    def state(self, monitor_source: dict[str, Any], **monitor: Any) -> str:
        """What a page sends when it is set to hear something."""
        monitor_sources = {"a": monitor_source, "b": {}}
        rest = {"loop": None, "comparing": False, "active": "a", "matched": True}
        return json.dumps(
            {"state": {"monitor_sources": monitor_sources, "monitor": monitor, **rest}}
        )

    def play(self, live: Any, data: bytes) -> tuple[dict[str, Any], np.ndarray]:
        """Say that a stretch has been played; gives its header and its samples."""
        header, samples = unpacked(data)
        played = {"epoch": header["epoch"], "frames": header["stream"] + header["frames"]}
        live.send(json.dumps({"do": "played", "gaps": 0, **played}))
        return header, samples

    def cookie(self, page: Page) -> dict[str, str]:
        return {"Cookie": "; ".join(f"{c['name']}={c['value']}" for c in page.context.cookies())}


class Several(ConnectionTest):
    """As many connections as there are listeners."""

    def test_without_rights_there_is_nothing(self) -> None:
        mix = Mix.objects.get(title="The Lamp at Skerrow")
        make_user("stranger")
        stranger = self.cookie(self.open("stranger"))
        member, here, elsewhere = self.cookie(self.open()), self.address, "http://elsewhere.example"
        next_door = f"{here}9"  # the same machine at another port
        for headers, origin in (
            *(({}, here), (stranger, here)),
            *((member, elsewhere), (member, next_door), (member, None)),
        ):
            with self.assertRaises(InvalidStatus) as refused, self.connect(mix, headers, origin):
                pass
            self.assertEqual(refused.exception.response.status_code, 403)

    def sign_out(self, page: Page) -> None:
        page.goto(self.address)
        page.click("[popovertarget=person]")
        page.click("text=Sign out")

    def test_the_sound_ends_for_who_signs_out_or_is_put_out(self) -> None:
        mix = Mix.objects.get(title="The Lamp at Skerrow")
        guest = make_user("guest")
        member = Member.objects.create(mix=mix, user=guest, role="listener")
        page, other = self.open(), self.open("guest")
        ends: tuple[tuple[Page, Callable[[], object]], ...] = (
            (page, lambda: self.sign_out(page)),
            (other, member.delete),
        )
        for browser, end in ends:
            with self.connect(mix, self.cookie(browser), self.address) as live:
                while "ready" not in json.loads(live.recv(30)):
                    pass
                end()
                said = []
                with self.assertRaises(ConnectionClosed):
                    while True:
                        said.append(live.recv(20))
                self.assertIn("no longer a member", said[-1])

    def test_eight_listeners_each_hear_their_own(self) -> None:
        """Who is told that there is no room tries again, as the sentence says."""
        mix = Mix.objects.get(title="The Lamp at Skerrow")
        headers = self.cookie(self.open())
        found: dict[int, list[dict[str, Any]]] = {}

        def listen(number: int) -> None:
            with self.connect(mix, headers, self.address) as live:
                while "ready" not in json.loads(live.recv(30)):
                    pass
                monitor_source = {"target": ("0+2+0", "0+5+0", "binaural", "4+7+0")[number % 4]}
                live.send(self.state(monitor_source, level_db=-float(number)))
                play = json.dumps({"do": "play", "at": number * 48000})
                live.send(play)
                got: list[dict[str, Any]] = []
                while len(got) < 30:
                    data = live.recv(30)
                    if isinstance(data, str):
                        if "has no room for one more" in json.loads(data).get("message", ""):
                            time.sleep(0.5)
                            live.send(play)
                        continue
                    got.append(self.play(live, data)[0])
                found[number] = got

        threads = [threading.Thread(target=listen, args=(number,)) for number in range(8)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join(120)
        self.assertEqual(sorted(found), list(range(8)))
        for number, got in found.items():
            ends = np.cumsum([0] + [h["frames"] for h in got])[:-1]
            self.assertEqual([h["first"] for h in got], (number * 48000 + ends).tolist())
            channels = (2, 6, 2, 12)[number % 4]
            self.assertTrue(all(len(h["readings"]["hold"]) == channels for h in got))

    def test_a_value_is_tried_on_its_own_processor_after_the_one_before_it_is_gone(self) -> None:
        mix = Mix.objects.get(title="The Lamp at Skerrow")
        bells = named(mix, "Hand-bells")
        user = mix.members.get(user__username="demo").user
        place = len(bells.chain)
        for _ in range(2):
            journal.apply(mix, user, AddProcessor(strip=bells.ref, processor="basics"))

        def narrow(at: int) -> str:
            command = {
                "kind": "set",
                "strips": [bells.ref],
                "path": f"chain/{at}/width",
                "value": 0.0,
            }
            return json.dumps({"preview": command, "control": f"{bells.ref} {at}"})

        monitor_source = {"target": "0+2+0", "what": "alone", "strip": bells.ref}
        with self.connect(mix, self.cookie(self.open()), self.address) as live:
            while "ready" not in json.loads(live.recv(30)):
                pass

            def hear_until(alike: bool) -> None:
                """Play on until both sides are the same, or are not."""
                for _ in range(200):
                    data = live.recv(30)
                    if isinstance(data, str):
                        self.assertNotIn("message", json.loads(data))
                        continue
                    left, right = self.play(live, data)[1]
                    if np.abs(left).max() > 1e-4 and (np.abs(left - right).max() < 1e-6) == alike:
                        return
                self.fail("this was not heard")

            live.send(self.state(monitor_source))
            live.send(json.dumps({"do": "play", "at": 8 * 48000}))
            hear_until(alike=False)
            live.send(narrow(place + 1))
            hear_until(alike=True)
            journal.apply(mix, user, RemoveProcessor(strip=bells.ref, place=place))
            hear_until(alike=False)  # what was tried is no longer there
            live.send(narrow(place))
            hear_until(alike=True)
            live.send(json.dumps({"release": f"{bells.ref} {place}"}))
            hear_until(alike=False)

    def test_nonsense_is_answered_in_a_sentence_and_the_stream_lives_on(self) -> None:
        mix = Mix.objects.get(title="The Lamp at Skerrow")
        with self.connect(mix, self.cookie(self.open()), self.address) as live:
            while "ready" not in json.loads(live.recv(30)):
                pass
            for nonsense in (
                "",
                "{",
                "[]",
                '{"do": 3}',
                '{"state": 3}',
                '{"state": {"monitor_sources": {"a": {"target": "x"}, "b": {}}, "monitor": {}}}',
                '{"preview": "/", "value": 3}',
                "x" * 30000,
            ):
                live.send(nonsense)
                self.assertIn("message", json.loads(live.recv(30)))
            live.send(json.dumps({"do": "play", "at": 0}))
            while isinstance(live.recv(30), str):
                pass


_SAYS = 5000
_AT_ONCE = 100


class AnythingSaid(ConnectionTest):
    """Whatever is said over the socket is answered, and the engine goes on."""

    def said(self, dice: random.Random, sources: list[str]) -> str:
        state = json.loads(self.state({"source": dice.choice(sources)}, **Monitor().model_dump()))
        shaped = [
            state,
            {"do": "play", "at": dice.randint(-1, 10**9)},
            {"do": "jump", "at": 0.5},
            {"do": "played", "epoch": 1, "frames": 4096, "gaps": 0},
            {"do": "answer", "side": "x"},
            {"do": "blind", "on": True},
            {"preview": dice.choice(ALL), "control": text(dice), "edit": text(dice)},
            {"release": text(dice)},
        ]
        return as_json(dice, spoiled(dice, dice.choice(shaped)))

    @long_test
    def test_thousands_of_messages_leave_the_engine_at_work(self) -> None:
        mix = Mix.objects.get(title="The Lamp at Skerrow")
        sources = ["now", *(f"revision {n}" for n in range(mix.revision + 2)), "render 0"]
        with self.connect(mix, self.cookie(self.open()), self.address) as live:
            while "ready" not in json.loads(live.recv(30)):
                pass
            for first in range(0, _SAYS, _AT_ONCE):
                for seed in range(first, first + _AT_ONCE):
                    live.send(self.said(random.Random(seed), sources))
                live.send(self.state({"target": "0+2+0"}))
                live.send(json.dumps({"do": "play", "at": 48000 + first}))
                where = f"what was said from seed {first} on ended it"
                while True:  # until it plays from there
                    try:
                        data = live.recv(60)
                    except (ConnectionClosed, TimeoutError):
                        self.fail(where)
                    if isinstance(data, bytes):
                        continue
                    told = json.loads(data)
                    self.assertNotIn("broke off", told.get("message", ""), where)
                    if told.get("at") == 48000 + first:
                        break
