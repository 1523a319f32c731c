"""One listener's session: what is heard on sides A and B, through what, from where on.

Stretch by stretch.
"""

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from metaphon.core.document.mix import PROGRAMME, Mix, Strip
from metaphon.core.document.personal import as_alternative, as_personal
from metaphon.core.document.targets import Target, target_named
from metaphon.core.dsp.block import Block
from metaphon.core.dsp.convolution import Convolver
from metaphon.core.edits.command import apply
from metaphon.core.edits.moved_values import moved_values
from metaphon.core.edits.registry import from_text
from metaphon.core.engine.crossfade import fade_in
from metaphon.core.engine.fewer_objects import fewer_objects
from metaphon.core.engine.live import Player
from metaphon.core.engine.plan import Plan, compile
from metaphon.core.engine.render import Output
from metaphon.core.engine.stems import alone, width_of
from metaphon.core.errors import InputError
from metaphon.core.listen.chain_spectrum import ChainSpectrum
from metaphon.core.listen.compare import Blind, Matching
from metaphon.core.listen.device import device_for, key_of
from metaphon.core.listen.headphones import correction_taps, worn_taps
from metaphon.core.listen.meters import Meters
from metaphon.core.listen.monitor import DIM_DB, Checks, Monitor, MonitorSource
from metaphon.core.listen.test_signal import with_test_signal
from metaphon.core.listen.watched import Watched
from metaphon.core.listen.way import Crossfade, Series, Working
from metaphon.core.process.impulse_response import behind
from metaphon.core.spatial.downmix import Shares
from metaphon.core.spatial.head import SHIPPED


@dataclass(frozen=True)
class Stretch:
    """What goes out.

    Samples (channels, frames), their place in the mix, and the readings of what was heard.
    """

    first: int
    samples: Block
    readings: dict[str, Any]


def mix_heard(mix: Mix, monitor_source: MonitorSource, head: Path = SHIPPED) -> tuple[Mix, Output]:
    """The mix as a listener has asked to hear it, and the output to listen to.

    Raises InputError where the strip it is about is gone.
    """
    if monitor_source.trying:
        mix = apply(mix, from_text(monitor_source.trying))
    mix = as_personal(as_alternative(mix, monitor_source.alternative), monitor_source.personal)
    if monitor_source.objects:
        mix = fewer_objects(mix, monitor_source.objects).mix
    strip = next((strip for strip in mix.strips if strip.id == monitor_source.strip), None)
    if monitor_source.what != "mix" and strip is None:
        raise InputError(
            "The track or bus that was heard is no longer in the mix; the whole mix is heard."
        )
    if monitor_source.stand_in and strip is not None:
        mix = with_test_signal(mix, strip.id, monitor_source.stand_in)
        return mix, Output(target_named(monitor_source.target), None, head, strip.id)
    if not monitor_source.chains:
        mix = _bypassed(mix)
    if monitor_source.kinds != "all":
        kind = monitor_source.kinds.removesuffix("s")
        mix = _each(
            mix,
            lambda s: (
                {"output": None} if s.output == PROGRAMME and s.placement.mode != kind else {}
            ),
        )
    if strip is not None and monitor_source.what in ("alone", "before"):
        width = width_of(strip)
        mix = alone(mix, strip.id, width)
        if monitor_source.what == "before":
            mix = _bypassed(mix, strip.id)
        return mix, Output(width)
    only = strip.id if strip and monitor_source.what == "stem" else None
    return mix, Output(target_named(monitor_source.target), None, head, only)


def _personal(monitor_source: MonitorSource) -> dict[str, Any]:
    return {name: getattr(monitor_source, name) for name in ("alternative", "personal")}


def _bypassed(mix: Mix, strip_id: str | None = None) -> Mix:
    """The mix without the chain of a strip, or of all strips."""

    def bypass(strip: Strip) -> dict[str, Any]:
        if strip_id not in (None, strip.id):
            return {}
        return {"chain": tuple(p.model_copy(update={"bypassed": True}) for p in strip.chain)}

    return _each(mix, bypass)


def _each(mix: Mix, change: Any) -> Mix:
    return mix.with_strips(lambda strip: strip.model_copy(update=change(strip)))


def checks_matrix(checks: Checks) -> np.ndarray:
    """All checks of a pair at once, (2, 2), in the order polarity, swap, one side, mono or side."""
    total = np.diag([1.0, -1.0 if checks.right_inverted else 1.0])
    if checks.swapped:
        total = total[::-1]
    if checks.left_only or checks.right_only:
        total = np.diag([float(checks.left_only), float(checks.right_only)]) @ total
    if checks.mono:
        total = np.full((2, 2), 0.5) @ total
    if checks.side:
        total = np.array([[0.5, -0.5], [0.5, -0.5]]) @ total
    return total


class _Path:
    """From a player's output to the ears."""

    def __init__(self, player: Player, output: Output, monitor: Monitor, channel: str = "") -> None:
        self.player = player
        self.output = output
        self.shares = player.plan.fold_down.shares
        settings = monitor.silent, monitor.alone, monitor.checks, channel
        self.key = (output, key_of(monitor), self.shares, *settings)
        self.device = device_for(monitor, output.target, player.plan.rate_hz, self.shares)
        labels = output.target.channel_labels
        open_ones = [label for label in labels if label not in monitor.silent]
        chosen = [label for label in open_ones if label in monitor.alone] or open_ones
        chosen = [channel] if channel in labels else chosen
        self._open = np.array([[label in chosen] for label in labels], dtype=np.float32)
        self._checks = checks_matrix(monitor.checks).astype(np.float32)
        self.is_checked = monitor.checks != Checks()

    def process(self, blocks: Mapping[Output, Block]) -> tuple[Block, Block]:
        """What is heard, and what reaches the ears."""
        heard = blocks[self.output] * self._open
        ears = self.device.process(heard)
        return heard, self._checks @ ears if len(ears) == 2 else ears


class Session:
    """Plays documents to one listener. Everything may be changed between two stretches.

    Nothing clicks.
    """

    def __init__(self, rate_hz: int) -> None:
        self.rate_hz = rate_hz
        self.documents: dict[str, Mix] = {}
        self.at = 0
        self.loop: tuple[int, int] | None = None
        self.monitor_sources = {"a": MonitorSource(), "b": MonitorSource()}
        self.active = "a"
        self.comparing = False
        self.matched = True
        self.blind: Blind | None = None
        self.monitor = Monitor()
        self._players: dict[tuple[str, MonitorSource], Player] = {}
        self._paths: dict[str, _Path] = {}
        self._leaving: list[_Path] = []
        self._weights = {"a": 1.0, "b": 0.0}
        self._gain = 1.0
        self._after: Crossfade = Crossfade(Series([]))
        self._after_key: tuple[object, ...] = ()
        self._matching = Matching(rate_hz)
        self._match = {"a": 1.0, "b": 1.0}
        self._watched: Watched | None = None
        self._spectrum = ChainSpectrum(rate_hz)
        self._meters: Meters | None = None
        self._meters_of: tuple[Target, Shares] | None = None

    def set_document(self, name: str, mix: Mix) -> None:
        """Give a document, or take an edit of it in. Raises InputError where it cannot be played.

        The old one goes on.
        """
        if self.documents.get(name) == mix:
            return  # as when a number that was tried is kept
        for key, player in self._players.items():
            if key[0] == name:
                player.change(compile(mix_heard(mix, key[1])[0], by_hand=True))
        before, self.documents[name] = self.documents.get(name), mix
        self._look()
        if before and before.fold_down != mix.fold_down:
            self._lay_paths()

    def hear(self, side: str, monitor_source: MonitorSource) -> None:
        """Listen to something else on a side. Raises InputError where it cannot be heard.

        Nothing is changed.
        """
        before = self.monitor_sources[side]
        self.monitor_sources[side] = monitor_source
        try:
            self._lay_paths()
        except (InputError, KeyError):
            self.monitor_sources[side] = before
            raise
        if self.comparing:
            self._matching = Matching(self.rate_hz)

    def set_monitor(self, monitor: Monitor) -> None:
        """Listen through something else. Raises InputError for files that cannot be read.

        Nothing is changed.
        """
        before = self.monitor
        self.monitor = monitor
        try:
            self._lay_paths()
            self._lay_after()
        except InputError:
            self.monitor = before
            raise

    def compare(self, on: bool, active: str = "a", matched: bool = True) -> None:
        """Let both sides run in step, or only the active one.

        `active` may be `x` in a blind comparison.
        """
        if on and not self.comparing:
            self._matching = Matching(self.rate_hz)
        self.comparing, self.active, self.matched = on, active, matched
        self._lay_paths()

    def watch(self, watched: Watched | None) -> None:
        """Tell with each stretch what a processor takes and gives by frequency; None ends it."""
        if watched != self._watched:
            self._watched, self._spectrum = watched, ChainSpectrum(self.rate_hz)
            self._look()

    def _look(self) -> None:
        """Have every player look into what is watched, which may stand elsewhere by now."""
        for (name, _), player in self._players.items():
            player.watched = None
            strip = self._watched and self.documents[name].find_strip(self._watched.strip)
            if not self._watched or not strip or self._watched.place >= len(strip.chain):
                continue
            if not strip.chain[self._watched.place].bypassed:
                before = strip.chain[: self._watched.place]
                player.watched = strip.id, sum(not one.bypassed for one in before)

    def jump(self, frame: int) -> None:
        """Go on from another place of the mix."""
        self.at = max(frame, 0)
        for player in self._players.values():
            player.jump(frame)
            self.at = player.at

    def set_loop(self, span: tuple[int, int] | None) -> None:
        """Play a span round and round; None ends it."""
        self.loop = span
        for player in self._players.values():
            player.loop = span

    def reset_meters(self) -> None:
        """Begin the figures of the whole anew."""
        if self._meters:
            self._meters.reset()

    @property
    def side(self) -> str:
        """The side that is heard."""
        if self.active == "x":
            return self.blind.x_is if self.blind else "a"
        return self.active

    @property
    def plan(self) -> Plan | None:
        """What is played."""
        path = self._paths.get(self.side)
        return path.player.plan if path else None

    @property
    def ended(self) -> bool:
        """Whether everything has been played to its end."""
        return bool(self._paths) and all(path.player.ended for path in self._paths.values())

    @property
    def costs(self) -> dict[str, float]:
        """Seconds of work by strip since this was last asked for."""
        found: dict[str, float] = {}
        for player in self._players.values():
            for strip, seconds in player.costs.items():
                found[strip] = found.get(strip, 0.0) + seconds
        return found

    def _sides(self) -> list[str]:
        return ["a", "b"] if self.comparing else [self.side]

    def _lay_paths(self) -> None:
        """Players and paths for the sides that are heard.

        A path that changes is left by a crossfade.
        """
        wanted: dict[str, tuple[tuple[str, MonitorSource], Player, Output]] = {}
        players: dict[tuple[str, MonitorSource], Player] = {}
        for side in self._sides():
            monitor_source = self.monitor_sources[side]
            name = monitor_source.source
            if name not in self.documents:
                return  # it is on its way
            own = self.monitor.binaural.head_file if monitor_source.target == "binaural" else None
            scene, output = mix_heard(self.documents[name], monitor_source, own or SHIPPED)
            apart = monitor_source.what in ("alone", "before") or bool(monitor_source.stand_in)
            shared = monitor_source.model_copy(
                update={"target": "0+2+0"}
                if apart
                else {"target": "0+2+0", "what": "mix", "strip": None}
            )
            key = (name, shared)
            player = (
                players.get(key)
                or self._players.get(key)
                or self._carried_on(key, scene)
                or Player(compile(scene, by_hand=True), [output], self.at)
            )
            player.loop = self.loop
            players[key] = player
            wanted[side] = key, player, output
        for side, (_, player, output) in wanted.items():
            old = self._paths.get(side)
            fresh = _Path(player, output, self.monitor, self.monitor_sources[side].channel)
            if old and old.player is player and old.key == fresh.key:
                continue
            if old and side == self.side:
                self._leaving.append(old)
            self._paths[side] = fresh
        self._paths = {side: path for side, path in self._paths.items() if side in wanted}
        leaving = {path.player for path in self._leaving}
        for player in {*players.values(), *leaving}:
            player.hear(
                list(
                    dict.fromkeys(
                        p.output
                        for p in [*self._paths.values(), *self._leaving]
                        if p.player is player
                    )
                )
            )
        for player in self._players.values():
            if player not in players.values() and player not in leaving:
                player.close()
        self._players = players | {
            key: p for key, p in self._players.items() if p in leaving and key not in players
        }
        self._kept = set(players)
        self._look()

    def _carried_on(self, key: tuple[str, MonitorSource], scene: Mix) -> Player | None:
        """The player of the same source otherwise personal, which goes on as an edit would.

        None while sides are compared, since each needs its own.
        """
        if self.comparing:
            return None
        for (name, held), player in self._players.items():
            if (name, held.model_copy(update=_personal(key[1]))) == key:
                player.change(compile(scene, by_hand=True))
                return player
        return None

    def _lay_after(self) -> None:
        monitor = self.monitor
        key = (monitor.worn, monitor.correction)
        if key == self._after_key:
            return
        parts: list[Working] = [
            Convolver(_sides_apart(taps))
            for taps in (
                correction_taps(monitor.correction, self.rate_hz) if monitor.correction else None,
                worn_taps(monitor.worn, self.rate_hz) if monitor.worn else None,
            )
            if taps is not None
        ]
        self._after.replace(Series(parts), 8192)
        self._after_key = key

    def take(self, frames: int) -> Stretch:
        """The next stretch. Raises InputError where there is nothing that can be heard."""
        if not self._paths:
            self._lay_paths()
        if not self._paths:
            raise InputError(
                "There is nothing to hear yet; bring in a recording and route it to the mix."
            )
        blocks: dict[Player, dict[Output, Block]] = {}
        first = self.at
        for player in self._players.values():
            first, blocks[player] = player.take(frames)
            self.at = player.at
        count = len(next(iter(next(iter(blocks.values())).values()))[0])
        found = {side: path.process(blocks[path.player]) for side, path in self._paths.items()}
        out = self._blended({side: ears for side, (_, ears) in found.items()}, count).astype(
            np.float32
        )
        if self._leaving:
            up = fade_in(count)
            for path in self._leaving:
                _, ears = path.process(blocks[path.player])
                out *= up
                if len(ears) == len(out):
                    out += ears * (1.0 - up) * self._match[self.side]
            self._leave()
        heard, ears = found[self.side]
        readings = self._read(heard, ears)
        level_db = self.monitor.level_db + self.monitor.match_db
        wanted = 10.0 ** ((level_db + (DIM_DB if self.monitor.dimmed else 0.0)) / 20.0)
        out *= self._gain + (wanted - self._gain) * fade_in(count)
        self._gain = wanted
        if len(out) == 2:
            out = self._after.process(out)
        readings["out_peak"] = round(float(20.0 * np.log10(max(np.abs(out).max(), 1e-6))), 1)
        return Stretch(first, out.astype(np.float32), readings)

    def _leave(self) -> None:
        self._leaving = []
        for key in [key for key in self._players if key not in self._kept]:
            self._players.pop(key).close()
        for player in self._players.values():
            player.hear(
                list(
                    dict.fromkeys(
                        path.output for path in self._paths.values() if path.player is player
                    )
                )
            )

    def _blended(self, ears: dict[str, Block], frames: int) -> Block:
        """The side that is heard.

        While comparing, both at one loudness, passing over where the side has changed.
        """
        up = fade_in(frames)
        if self.comparing:
            for side, block in ears.items():
                self._matching.add(side, block)
        gains = self._matching.gains_db if self.comparing and self.matched else {"a": 0.0, "b": 0.0}
        total: Block | None = None
        for side, block in ears.items():
            weight = 1.0 if side == self.side else 0.0
            match = 10.0 ** (gains[side] / 20.0)
            line = (
                self._weights[side] * self._match[side]
                + (weight * match - self._weights[side] * self._match[side]) * up
            )
            if line.any() or side == self.side:
                part = block * line
                total = (
                    part
                    if total is None
                    else total + part
                    if len(total) == len(part)
                    else (part if side == self.side else total)
                )
            self._weights[side], self._match[side] = weight, match
        for side in {"a", "b"} - set(ears):
            self._weights[side], self._match[side] = 0.0, 1.0
        assert total is not None
        return total

    def _read(self, heard: Block, ears: Block) -> dict[str, Any]:
        path = self._paths[self.side]
        of = path.output.target, path.shares
        if self._meters is None or self._meters_of != of:
            self._meters, self._meters_of = Meters(of[0], self.rate_hz, of[1]), of
        if self.active == "x":
            return {"blind": True}  # figures would tell which it is
        readings = self._meters.read(heard, ears, path.is_checked)
        player = self._paths[self.side].player
        readings["strips"] = player.levels_db
        document = self.documents[self.monitor_sources[self.side].source]
        readings["values"] = moved_values(document, player.at / self.rate_hz)
        if behind.waiting:
            readings["loading"] = behind.waiting
        if player.seen:
            readings["spectrum"] = self._spectrum.read(*player.seen)
        if self.comparing:
            readings["matched_db"] = {
                side: round(20 * np.log10(gain), 2) for side, gain in self._match.items()
            }
        return readings

    def close(self) -> None:
        """Let go of files and threads."""
        for player in self._players.values():
            player.close()
        self._players, self._paths, self._leaving = {}, {}, []


def _sides_apart(taps: Block) -> Block:
    """A filter of each side as (2, 2, taps), without a way across."""
    apart = np.zeros((2, 2, taps.shape[1]), dtype=np.float32)
    apart[0, 0], apart[1, 1] = taps
    return apart
