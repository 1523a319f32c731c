// The time line: clips that are moved, trimmed, faded, split and copied, by mouse and by keys, at any zoom.

import { colour, inStep, sized } from "../listen/bar.js";
import { player } from "../listen/player.js";
import { send, tryOut } from "../shell/edit.js";
import { nudge, nudgedOf } from "../shell/nudge.js";
import { drawn } from "./peaks.js";

const EDGE = 7; // pixels at either end of a clip that trim it
const SNAP = 6; // pixels within which it meets another edge or the playhead
const HANDLE = 12; // pixels from the top in which fades are taken hold of
const WIDEST = 160; // pixels of the name of a marker
const SHORTEST_S = 0.001;
const STEPS_S = [
  0.001, 0.002, 0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1, 2, 5, 10, 15, 30, 60, 120, 300, 600,
  1800, 3600,
];

const view = { from: 0, perS: 0 }; // seconds at the left edge, pixels a second; 0 until it is fitted
let chosen = null; // id of the clip or marker that is chosen

const root = () => document.getElementById("tracks");
const line = () => root()?.querySelector(".timeline");
const rate = () => +root().dataset.rate;
const span = () => +root().dataset.span || 10;
const laneWidth = () => line().querySelector(".ruler").clientWidth;
const mayEdit = () => root().dataset.mayEdit !== undefined;
const playhead = () => player.position / rate();
const numbers = ({ dataset }) => ({
  start: +dataset.start,
  from: +dataset.in,
  length: +dataset.length,
  recorded: +dataset.recorded,
  gain: +dataset.gain,
  fadeIn: +dataset.fadeIn,
  fadeOut: +dataset.fadeOut,
});

// -- drawing

function fit() {
  view.from = 0;
  view.perS = laneWidth() / (span() * 1.02);
}
function zoom(factor, at = laneWidth() / 2) {
  const held = view.from + at / view.perS;
  view.perS = Math.min(Math.max(view.perS * factor, laneWidth() / (span() * 4)), rate() * 8);
  view.from = Math.max(held - at / view.perS, 0);
  layOut();
}

let asked = false;
export function layOut() {
  if (asked) return;
  asked = true;
  requestAnimationFrame(() => {
    asked = false;
    drawAll();
  });
}
function drawAll() {
  if (!line()) return;
  if (!view.perS) fit();
  const loudest = Math.max(
    ...[...line().querySelectorAll(".clip")].map((clip) => clip.peak ?? 0),
    1e-3,
  );
  line()
    .querySelectorAll(".clip")
    .forEach((clip) => place(clip, loudest));
  line().querySelectorAll(".marker").forEach(placeMarker);
  drawRuler();
  drawAlong();
  movePlayhead();
  const shows = laneWidth() / view.perS;
  root().querySelector("[data-shows]").textContent =
    `${clock(view.from, shows)} to ${clock(view.from + shows, shows)}`;
}

function place(clip, loudest) {
  const { start, length } = numbers(clip);
  const [left, width] = [(start - view.from) * view.perS, Math.max(length * view.perS, 3)];
  const [from, to] = [Math.max(left, 0), Math.min(left + width, laneWidth())];
  clip.hidden = from >= to;
  if (clip.hidden) return;
  clip.style.left = `${from}px`;
  clip.style.width = `${to - from}px`;
  clip.classList.toggle("chosen", clip.id === chosen);
  drawClip(clip, from - left, loudest);
}

function placeMarker(marker) {
  const x = (+marker.dataset.at - view.from) * view.perS;
  marker.hidden = x < 0 || x > laneWidth();
  marker.style.left = `${x}px`;
  const next = marker.nextElementSibling; // whose name is not written over
  const room = next ? (+next.dataset.at - +marker.dataset.at) * view.perS - 2 : Infinity;
  marker.style.maxWidth = `${Math.min(Math.max(room, 8), WIDEST)}px`;
  marker.classList.toggle("chosen", marker.id === chosen);
}

function drawClip(clip, skipped, loudest) {
  const { from, length, gain, fadeIn, fadeOut } = numbers(clip);
  const { pen, width, height } = sized(clip.querySelector("canvas"));
  const perFrame = rate() / view.perS;
  const found = drawn(
    clip.dataset.peaks,
    from * rate() + skipped * perFrame,
    perFrame,
    Math.ceil(width),
    layOut,
  );
  const scale = 10 ** (gain / 20);
  const tall = (height / 2 - 1) / loudest;
  pen.fillStyle = colour("--kelp");
  let peak = 0;
  found.forEach((pair, x) => {
    if (!pair) return;
    const at = (skipped + x) / view.perS;
    const faded = scale * share(at, fadeIn) * share(length - at, fadeOut);
    peak = Math.max(peak, -pair[0], pair[1]);
    const [low, high] = pair.map((value) =>
      Math.min(Math.max(value * faded * tall, -height / 2), height / 2),
    );
    pen.fillRect(x, height / 2 - high, 1, Math.max(high - low, 1));
  });
  if (peak > (clip.peak ?? 0)) {
    clip.peak = peak;
    layOut();
  }
  pen.strokeStyle = colour("--brass");
  pen.beginPath();
  curve(pen, fadeIn, (x) => x - skipped, height);
  curve(pen, fadeOut, (x) => length * view.perS - x - skipped, height);
  pen.stroke();
}
const share = (at, fade) =>
  fade > 0 && at < fade ? Math.sin((Math.max(at, 0) / fade) * (Math.PI / 2)) : 1;
function curve(pen, fade, x, height) {
  if (!fade) return;
  const wide = fade * view.perS;
  for (let n = 0; n <= 16; n++) {
    const point = [
      x((n / 16) * wide),
      height - 1 - (height - 2) * Math.sin((n / 16) * (Math.PI / 2)),
    ];
    if (n) pen.lineTo(...point);
    else pen.moveTo(...point);
  }
}

const clock = (seconds, shows) => {
  const digits = shows < 0.2 ? 4 : shows < 2 ? 3 : shows < 20 ? 2 : 1;
  const whole = Math.floor(seconds / 60);
  const rest = (seconds - whole * 60).toFixed(digits).padStart(digits + 3, "0");
  const hours = Math.floor(whole / 60);
  return hours ? `${hours}:${String(whole % 60).padStart(2, "0")}:${rest}` : `${whole}:${rest}`;
};
function drawRuler() {
  const { pen, width, height } = sized(line().querySelector(".ruler"));
  const step = STEPS_S.find((one) => one * view.perS >= 88) ?? 3600;
  pen.font = `11px ${getComputedStyle(document.body).getPropertyValue("--bs-font-monospace")}`;
  pen.fillStyle = colour("--quiet");
  for (let n = Math.floor(view.from / step); n * step <= view.from + width / view.perS; n++) {
    const x = (n * step - view.from) * view.perS;
    pen.fillRect(x, height - 6, 1, 6);
    const text = clock(n * step, step * 8).replace(/\.0+$/, "");
    pen.fillText(text, x + 4, height - 8);
    for (let part = 1; part < 5; part++)
      pen.fillRect(x + (part / 5) * step * view.perS, height - 3, 1, 3);
  }
}
function drawAlong() {
  const along = line().querySelector(".along");
  const whole = Math.max(span() * 1.02, view.from + laneWidth() / view.perS);
  const thumb = along.querySelector(".window");
  thumb.style.left = `${(view.from / whole) * 100}%`;
  thumb.style.width = `${Math.max(laneWidth() / view.perS / whole, 0.005) * 100}%`;
}
function movePlayhead() {
  const head = line()?.querySelector(".playhead");
  if (!head) return;
  const x = (playhead() - view.from) * view.perS;
  head.hidden = x < 0 || x > laneWidth();
  head.style.transform = `translateX(${x}px)`;
}
inStep(movePlayhead);
player.addEventListener("transport", movePlayhead);

// -- what is chosen

function choose(one) {
  if (chosen === one.id) return;
  chosen = one.id;
  layOut();
  const { strip, place: number, marker } = one.dataset;
  const base = root().closest("[data-base]").dataset.base;
  htmx.ajax(
    "GET",
    base + (marker ? `marker/${marker}` : `clip/${encodeURIComponent(strip)}/${number}`),
    {
      source: root(),
      target: "#clip",
      swap: "innerHTML",
    },
  );
}
document.addEventListener(
  "focusin",
  ({ target }) => target.matches?.(".timeline :is(.clip, .marker)") && choose(target),
);
const keyOf = ({ dataset }) => dataset.marker ?? `${dataset.place} ${dataset.strip}`;
document.addEventListener("htmx:configRequest", ({ detail }) => {
  const one = root() && chosen && document.getElementById(chosen);
  if (one) detail.headers[one.dataset.marker ? "X-Marker" : "X-Clip"] = keyOf(one);
});

let chosenThen; // when the answer that is drawn was asked for
// numbers that are being typed are not drawn anew
document.addEventListener("htmx:beforeSwap", ({ detail }) => {
  const { headers } = detail.requestConfig;
  chosenThen = headers["X-Marker"] ?? headers["X-Clip"];
  if (detail.target.id === "clip" && detail.target.contains(document.activeElement))
    detail.shouldSwap = false;
});

// -- by mouse

const named = (clip) => ({ strip: clip.dataset.strip, place: +clip.dataset.place });
// The time nearest to one that something else begins or ends at, if it is near enough.
function snapped(time, clip, free) {
  if (free) return Math.max(time, 0);
  const edges = [0, playhead()];
  for (const marker of line().querySelectorAll(".marker"))
    if (marker !== clip) edges.push(+marker.dataset.at);
  line()
    .querySelectorAll(".clip")
    .forEach((other) => {
      if (other === clip) return;
      const { start, length } = numbers(other);
      edges.push(start, start + length);
    });
  const best = edges.reduce((one, two) =>
    Math.abs(two - time) < Math.abs(one - time) ? two : one,
  );
  return Math.max(Math.abs(best - time) * view.perS < SNAP ? best : time, 0);
}
function holdOf(clip, event) {
  const box = clip.getBoundingClientRect();
  const { start, length, fadeIn, fadeOut } = numbers(clip);
  const x = event.clientX - line().querySelector(".ruler").getBoundingClientRect().left;
  const at = view.from + x / view.perS;
  const near = (time) => Math.abs(time - at) * view.perS < EDGE;
  if (event.clientY - box.top < HANDLE) {
    if (near(start + fadeIn) && (fadeIn || !near(start + length))) return "fade-in";
    if (near(start + length - fadeOut)) return "fade-out";
  }
  if (box.width > 3 * EDGE) {
    if (near(start)) return "begin";
    if (near(start + length)) return "end";
  }
  return "move";
}
document.addEventListener("pointermove", (event) => {
  const clip = event.target.closest?.(".timeline .clip");
  if (clip && !event.buttons && mayEdit()) clip.dataset.hold = holdOf(clip, event);
});
document.addEventListener("pointerdown", (event) => {
  const clip = event.button === 0 && event.target.closest?.(".timeline .clip");
  if (!clip) return;
  clip.focus();
  if (!mayEdit()) return;
  const [hold, before, x] = [holdOf(clip, event), numbers(clip), event.clientX];
  const home = clip.parentNode;
  let to = home;
  let moved = false;
  let command = null;
  const move = (e) => {
    if (!moved && Math.hypot(e.clientX - x, e.clientY - event.clientY) < 4) return;
    moved = true;
    const by = (e.clientX - x) / view.perS;
    const own = named(clip);
    if (hold === "move") {
      const lane = document
        .elementsFromPoint(e.clientX, e.clientY)
        .find((one) => one.matches?.(".lane"));
      const fits = lane && [home.dataset.channels, "0"].includes(lane.dataset.channels);
      const [begins, ends] = [before.start + by, before.start + before.length + by];
      const start = snapped(begins, clip, e.shiftKey);
      const end = snapped(ends, clip, e.shiftKey);
      clip.dataset.start = Math.max(
        start !== begins ? start : end !== ends ? end - before.length : begins,
        0,
      );
      if (fits) to = lane;
      clip.style.translate = `0 ${to.offsetTop - home.offsetTop}px`;
      const kind = e.altKey ? "copy_clip" : "move_clip";
      command = { kind, ...own, start_s: +clip.dataset.start, to: to.dataset.strip };
    } else if (hold === "begin" || hold === "end") {
      const end = before.start + before.length;
      const least = before.start - before.from;
      const most = least + before.recorded;
      const begins = hold === "begin" ? snapped(before.start + by, clip, e.shiftKey) : before.start;
      const ends = hold === "end" ? snapped(end + by, clip, e.shiftKey) : end;
      const [b, f] = [
        Math.min(Math.max(begins, least, 0), end - SHORTEST_S),
        Math.max(Math.min(ends, most), before.start + SHORTEST_S),
      ];
      Object.assign(clip.dataset, { start: b, in: before.from + b - before.start, length: f - b });
      command = {
        kind: "trim_clip",
        ...own,
        begins_s: b,
        ends_s: f >= most - SHORTEST_S ? null : f,
      };
    } else {
      const rises = hold === "fade-in";
      const fade = Math.min(
        Math.max(rises ? before.fadeIn + by : before.fadeOut - by, 0),
        before.length - (rises ? before.fadeOut : before.fadeIn),
      );
      clip.dataset[rises ? "fadeIn" : "fadeOut"] = fade;
      command = setting(clip, rises ? "fade_in_s" : "fade_out_s", fade);
    }
    layOut();
  };
  const end = (e) => {
    clip.removeEventListener("pointermove", move);
    clip.classList.remove("held");
    if (command && e.type === "pointerup") send(command, root(), clip.id);
    else if (moved) {
      clip.style.translate = "";
      Object.assign(clip.dataset, { start: before.start, in: before.from, length: before.length });
      layOut();
    }
  };
  clip.classList.add("held");
  clip.setPointerCapture(event.pointerId);
  clip.addEventListener("pointermove", move);
  clip.addEventListener("pointerup", end, { once: true });
  clip.addEventListener("pointercancel", end, { once: true });
});
const setting = (clip, name, value) => ({
  kind: "set",
  strips: [clip.dataset.strip],
  path: `clips/${clip.dataset.place}/${name}`,
  value: Math.round(value * 1e6) / 1e6,
});

document.addEventListener("pointerdown", (event) => {
  const marker = event.button === 0 && event.target.closest?.(".timeline .marker");
  if (!marker) return;
  marker.focus();
  if (!mayEdit()) return;
  const [before, x] = [+marker.dataset.at, event.clientX];
  let moved = false;
  const move = (e) => {
    moved ||= Math.abs(e.clientX - x) >= 4;
    if (!moved) return;
    marker.dataset.at = snapped(before + (e.clientX - x) / view.perS, marker, e.shiftKey);
    placeMarker(marker);
  };
  const end = (e) => {
    marker.removeEventListener("pointermove", move);
    if (!moved) return;
    if (e.type === "pointerup") return send(movedTo(marker, +marker.dataset.at), root(), marker.id);
    marker.dataset.at = before;
    placeMarker(marker);
  };
  marker.setPointerCapture(event.pointerId);
  marker.addEventListener("pointermove", move);
  marker.addEventListener("pointerup", end, { once: true });
  marker.addEventListener("pointercancel", end, { once: true });
});
const movedTo = (marker, at) => ({
  kind: "set_marker",
  marker: marker.dataset.marker,
  path: "at_s",
  value: Math.round(at * 1e6) / 1e6,
});

// -- by keys

const NUDGES = { start: "start_s", gain: "gain_db" };
// A number of a clip or the place of a marker, stepped.
function stepTo(one, name, value, command) {
  one.dataset[name] = value;
  layOut();
  const own = root();
  nudge(`${one.id} ${name}`, value, () => send(command, own, one.id));
}
function putNudged() {
  for (const one of line()?.querySelectorAll(".clip, .marker") ?? [])
    for (const name of ["start", "gain", "at"]) {
      const value = nudgedOf(`${one.id} ${name}`);
      if (value !== undefined) one.dataset[name] = value;
    }
}
function stepClip(clip, name, value) {
  const command = setting(clip, NUDGES[name], value);
  if (name === "gain") tryOut(command, clip.id);
  stepTo(clip, name, value, command);
}
document.addEventListener("keydown", (event) => {
  const clip = event.target;
  if (!clip.matches?.(".timeline .clip") || event.ctrlKey || event.metaKey || !mayEdit()) return;
  const { start, length, gain, recorded, from } = numbers(clip);
  const step = event.shiftKey ? 1 : event.altKey ? 1 / rate() : 0.01;
  const at = playhead();
  const inside = at > start && at < start + length;
  const ends = start + length >= start - from + recorded - SHORTEST_S ? null : start + length;
  const own = named(clip);
  const act = {
    ArrowLeft: () => stepClip(clip, "start", Math.max(start - step, 0)),
    ArrowRight: () => stepClip(clip, "start", start + step),
    ArrowUp: () => stepClip(clip, "gain", Math.min(gain + 0.5, 24)),
    ArrowDown: () => stepClip(clip, "gain", Math.max(gain - 0.5, -60)),
    "[": () =>
      at < start + length &&
      send({ kind: "trim_clip", ...own, begins_s: at, ends_s: ends }, root()),
    "]": () =>
      at > start && send({ kind: "trim_clip", ...own, begins_s: start, ends_s: at }, root()),
    s: () => inside && send({ kind: "split_clip", ...own, at_s: at }, root()),
    d: () => send({ kind: "copy_clip", ...own, start_s: start + length }, root()),
    Delete: () => send({ kind: "remove_clip", ...own }, root()),
    Backspace: () => send({ kind: "remove_clip", ...own }, root()),
  }[event.key];
  if (!act) return;
  event.preventDefault();
  event.stopPropagation();
  act();
});

document.addEventListener("keydown", (event) => {
  const marker = event.target;
  if (!marker.matches?.(".timeline .marker") || event.ctrlKey || event.metaKey) return;
  const step = event.shiftKey ? 1 : event.altKey ? 1 / rate() : 0.01;
  const at = +marker.dataset.at;
  const by = { ArrowLeft: -step, ArrowRight: step }[event.key];
  if (event.key === "Enter") player.jump(Math.round(at * rate()));
  else if (!mayEdit()) return;
  else if (by) {
    const moved = Math.max(at + by, 0);
    stepTo(marker, "at", moved, movedTo(marker, moved));
  } else if (event.key === "Delete" || event.key === "Backspace")
    send({ kind: "remove_marker", marker: marker.dataset.marker }, root());
  else return;
  event.preventDefault();
  event.stopPropagation();
});

// -- moving along

document.addEventListener("click", ({ target }) => {
  const button = target.closest?.("#tracks [data-zoom]");
  if (!button) return;
  if (button.dataset.zoom !== "fit") return zoom(+button.dataset.zoom);
  fit();
  layOut();
});
document.addEventListener(
  "wheel",
  (event) => {
    if (!event.target.closest?.(".timeline")) return;
    if (event.ctrlKey) {
      event.preventDefault();
      const left = line().querySelector(".ruler").getBoundingClientRect().left;
      zoom(2 ** (-event.deltaY / 200), event.clientX - left);
    } else if (event.deltaX || event.shiftKey) {
      event.preventDefault();
      view.from = Math.max(view.from + (event.deltaX || event.deltaY) / view.perS, 0);
      layOut();
    }
  },
  { passive: false },
);
document.addEventListener("pointerdown", (event) => {
  const ruler = event.target.closest?.(".timeline .ruler");
  const along = event.target.closest?.(".timeline .along");
  if (ruler) {
    const left = ruler.getBoundingClientRect().left;
    const jump = (e) =>
      player.jump((view.from + Math.max(e.clientX - left, 0) / view.perS) * rate());
    follow(ruler, event, jump);
    jump(event);
  } else if (along) {
    const [whole, x, from] = [
      Math.max(span() * 1.02, view.from + laneWidth() / view.perS),
      event.clientX,
      view.from,
    ];
    follow(along, event, (e) => {
      view.from = Math.max(from + ((e.clientX - x) / along.clientWidth) * whole, 0);
      layOut();
    });
  }
});
function follow(element, event, move) {
  element.setPointerCapture(event.pointerId);
  element.addEventListener("pointermove", move);
  element.addEventListener(
    "lostpointercapture",
    () => element.removeEventListener("pointermove", move),
    {
      once: true,
    },
  );
}

// -- what was drawn anew

document.addEventListener("htmx:load", ({ target }) => {
  if (target.id !== "tracks" && !target.querySelector?.("#tracks")) return;
  putNudged();
  drawAll(); // at once: what is pressed before the next frame is where it was
  // the numbers of what is chosen are always there, and no other's
  const one = chosen && document.getElementById(chosen);
  if (one && (chosenThen !== keyOf(one) || !document.querySelector("#clip .value"))) {
    chosen = null;
    choose(one);
  }
});
document.addEventListener("theme-changed", layOut);
addEventListener("resize", layOut);
layOut();
