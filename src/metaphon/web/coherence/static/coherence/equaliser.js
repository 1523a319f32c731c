// The equaliser, large: bands dragged on the curve, their sharpness by wheel or keys, one band heard alone while S is held
// or it is pressed with Alt, the spectrum before and after behind it. The curve is the server's, asked for as the hand
// moves.

import { inStep } from "../listen/bar.js";
import { player } from "../listen/player.js";
import { release, send, tryOut } from "../shell/edit.js";
import { fetchText } from "../shell/fetch_text.js";
import { keepNudged, nudge, nudgedOf } from "../shell/nudge.js";

const WIDE = 800;
const HIGH = 300;
const BANDS = 160;
const CURVES_MS = 60; // from one curve that is asked for to the next
const board = () => document.getElementById("equaliser");
const svg = () => board()?.querySelector(".board svg");
const mayEdit = () => "mayEdit" in board().dataset;
const hzAt = (x) => 20 * 1000 ** (x / WIDE);
const xAt = (hz) => (Math.log10(Math.min(Math.max(hz, 20), 20000) / 20) / 3) * WIDE;
const reach = () => +board().dataset.reach;
const yAt = (db) => (0.5 - Math.min(Math.max(db / reach() / 2, -0.5), 0.5)) * HIGH;
const dbAt = (y) => (0.5 - y / HIGH) * 2 * reach();
const round = (value, step) => Math.round(value / step) * step;
let drag = null; // {handle, data, stroke}
const on = { phase: false, delay: false, spectrum: true, record: false };

function at({ clientX, clientY }) {
  const { a, d, e, f } = svg().getScreenCTM();
  return [
    Math.min(Math.max((clientX - e) / a, 0), WIDE),
    Math.min(Math.max((clientY - f) / d, 0), HIGH),
  ];
}

const held = (data, axis, value) =>
  Math.min(Math.max(value, data.ends[axis][0]), data.ends[axis][1]);
const shownHz = (hz) =>
  hz < 1000 ? `${hz.toFixed(hz < 100 ? 1 : 0)} Hz` : `${(hz / 1000).toFixed(2)} kHz`;
const shownDb = (db) => `${db.toFixed(1).replace("-", "−")} dB`;
const words = ({ x, y, q }) =>
  [shownHz(x), y === undefined ? null : shownDb(y), q === undefined ? null : `Q ${q.toFixed(2)}`]
    .filter(Boolean)
    .join("  ");

// What a handle sets, as one step.
function commandOf(handle, data) {
  const { strip } = board().dataset;
  const commands = Object.entries(data.paths).map(([axis, path]) => ({
    kind: "set",
    strips: [strip],
    path,
    value: data.values[axis],
  }));
  const title = board().querySelector("h2").textContent.trim();
  return { kind: "batch", commands, words: `${title}: ${words(data.values)}` };
}

function draw(handle, data) {
  const y = data.values.y === undefined ? HIGH / 2 : yAt(data.values.y);
  handle.setAttribute("transform", `translate(${xAt(data.values.x)} ${y})`);
  board().querySelector(".reading").textContent = words(data.values);
}

let asked = null;
let busy = false;
// The curve with a command tried, one request after the other; only the last that was asked for counts.
async function drawCurves(command) {
  asked = command;
  if (busy) return;
  busy = true;
  while (asked && board()) {
    const mine = asked;
    const address = `${board().dataset.curves}&command=${encodeURIComponent(JSON.stringify(mine))}`;
    const text = await fetchText(address, { headers: { "HX-Request": "true" } });
    if (asked === mine) asked = null;
    if (text === null || !board()) continue;
    const { levels, phase, delay } = JSON.parse(text);
    for (const path of svg().querySelectorAll("[data-level]"))
      if (levels[path.dataset.level]) path.setAttribute("d", levels[path.dataset.level]);
    svg().querySelector("path[data-curve=phase]").setAttribute("d", phase);
    svg().querySelector("path[data-curve=delay]").setAttribute("d", delay);
    await new Promise((done) => setTimeout(done, CURVES_MS));
  }
  busy = false;
}

const control = (handle) => `handle ${handle.dataset.number}`;
function tryHandle(handle, data) {
  draw(handle, data);
  const command = commandOf(handle, data);
  tryOut(command, control(handle));
  drawCurves(command);
}
function keep(handle, data, own = board(), command = commandOf(handle, data)) {
  asked = null;
  handle.dataset.handle = JSON.stringify(data); // what is set next goes on from here
  return send(command, own, control(handle));
}
const nameOf = (handle) => `${board().dataset.curves} ${control(handle)}`;
const numbersOf = (handle) =>
  structuredClone(nudgedOf(nameOf(handle))) ?? JSON.parse(handle.dataset.handle);
// Under the keys or the wheel.
function step(handle, change) {
  const data = numbersOf(handle);
  change(data);
  tryHandle(handle, data);
  const [own, command] = [board().closest("[data-edit-url]"), commandOf(handle, data)];
  nudge(nameOf(handle), data, () => keep(handle, data, own, command));
}
function putNudged() {
  for (const handle of svg()?.querySelectorAll(".handle") ?? []) {
    const data = nudgedOf(nameOf(handle));
    if (data) draw(handle, data);
  }
}

// A band alone: what it lifts or takes away, by a low-cut and a high-cut round it, and all others off.
function alone(handle) {
  const { strip, place } = board().dataset;
  const { values } = JSON.parse(handle.dataset.handle);
  const head = `chain/${place}/bands`;
  const count = svg().querySelectorAll(".handle").length;
  const set = (path, value) => ({ kind: "set", strips: [strip], path, value });
  const half = 2 ** (1 / (2 * Math.max(values.q ?? 1, 0.35)));
  const shape = handle.dataset.shape;
  const low =
    { low_shelf: 10, low_cut: 10 }[shape] ?? values.x / (shape.startsWith("high") ? 1 : half);
  const high =
    { high_shelf: 22000, high_cut: 22000 }[shape] ??
    values.x * (shape.startsWith("low") ? 1 : half);
  const cut = (band, kind, hz) => [
    set(`${head}/${band}/shape`, kind),
    set(`${head}/${band}/on`, true),
    set(`${head}/${band}/side`, "both"),
    set(`${head}/${band}/slope_db`, "24"),
    set(`${head}/${band}/frequency_hz`, Math.min(Math.max(hz, 10), 22000)),
  ];
  const own = handle.dataset.number - 1;
  const others = [...Array(count).keys()].filter((band) => band !== own);
  return {
    kind: "batch",
    commands: [
      ...others.map((band) => set(`${head}/${band}/on`, false)),
      { kind: "add_band", strip, place: +place },
      ...cut(own, "low_cut", low),
      ...cut(count, "high_cut", high),
    ],
  };
}
let hears = null;
function hear(handle) {
  if (hears || !handle || !("isEq" in board().dataset) || handle.dataset.shape === "tilt") return;
  hears = handle;
  handle.classList.add("alone");
  player.preview(alone(handle), "band alone");
}
function hearAll() {
  hears?.classList.remove("alone");
  hears = null;
  player.release("band alone");
}

document.addEventListener("pointerdown", (event) => {
  const handle = event.target.closest?.("#equaliser .handle");
  if (!handle) return;
  handle.focus();
  event.preventDefault();
  if (event.altKey) return hear(handle);
  if (!mayEdit()) return;
  keepNudged();
  svg().setPointerCapture(event.pointerId);
  drag = { handle, data: numbersOf(handle), moved: false, stroke: [] };
});
document.addEventListener("pointermove", (event) => {
  if (!drag) {
    const area = event.target.closest?.("#equaliser .board svg");
    if (area && !event.target.closest(".handle")) {
      const [x, y] = at(event);
      board().querySelector(".reading").textContent = `${shownHz(hzAt(x))}  ${shownDb(dbAt(y))}`;
    }
    return;
  }
  const [x, y] = at(event);
  const { data, handle } = drag;
  drag.moved = true;
  data.values.x = round(held(data, "x", hzAt(x)), hzAt(x) < 100 ? 0.1 : 1);
  if (data.values.y !== undefined) data.values.y = round(held(data, "y", dbAt(y)), 0.1);
  if (on.record && player.playing)
    drag.stroke.push({ t: player.position / player.rate, ...data.values });
  tryHandle(handle, data);
});
for (const end of ["pointerup", "pointercancel"])
  document.addEventListener(end, () => {
    const done = drag;
    drag = null;
    if (hears) hearAll();
    if (!done || !board()) return;
    if (!done.moved) return release(control(done.handle));
    if (done.stroke.length > 1) return record(done);
    keep(done.handle, done.data);
  });

// A gesture as automation: from where the hand took hold to where it let go.
function record({ handle, data, stroke }) {
  const { strip } = board().dataset;
  const rising = stroke.filter(({ t }, n) => !n || t > stroke[n - 1].t);
  const axes = ["x", "y"].filter((axis) => data.paths[axis]);
  const commands = axes.map((axis) => ({
    kind: "draw_lane",
    strip,
    path: data.paths[axis],
    points: rising.map((one) => ({ t_s: Math.round(one.t * 1e3) / 1e3, value: one[axis] })),
    into: true,
  }));
  asked = null;
  const title = board().querySelector("h2").textContent.trim();
  send(
    { kind: "batch", commands, words: `${title}: a gesture recorded` },
    board(),
    control(handle),
  );
}

document.addEventListener("dblclick", (event) => {
  const area = event.target.closest?.("#equaliser .board svg");
  if (!area || !mayEdit()) return;
  const handle = event.target.closest(".handle");
  const { strip, place } = board().dataset;
  if (handle) {
    const data = numbersOf(handle);
    if (data.values.y === undefined) return;
    data.values.y = 0;
    keep(handle, data);
  } else if ("isEq" in board().dataset) {
    const [x, y] = at(event);
    const [frequency_hz, gain_db] = [round(hzAt(x), 1), round(dbAt(y), 0.1)];
    send({ kind: "add_band", strip, place: +place, frequency_hz, gain_db }, board(), "add band");
  }
});
const sharper = (by) => (data) => {
  if (data.values.q !== undefined)
    data.values.q = round(held(data, "q", data.values.q * 1.1 ** by), 0.01);
};
document.addEventListener(
  "wheel",
  (event) => {
    const handle = event.target.closest?.("#equaliser .handle");
    if (!handle || !mayEdit()) return;
    event.preventDefault();
    step(handle, sharper(event.deltaY < 0 ? 1 : -1));
  },
  { passive: false },
);
document.addEventListener(
  "keydown",
  (event) => {
    const handle = event.target.closest?.("#equaliser .handle");
    if (!handle || event.ctrlKey || event.metaKey || event.altKey) return;
    const size = event.shiftKey ? 6 : 1;
    if (event.key === "s" && !event.repeat) hear(handle);
    else if (!mayEdit()) return;
    else if (event.key === "ArrowRight" || event.key === "ArrowLeft") {
      const by = 2 ** ((event.key === "ArrowRight" ? size : -size) / 24);
      step(handle, (data) => (data.values.x = round(held(data, "x", data.values.x * by), 0.1)));
    } else if (event.key === "ArrowUp" || event.key === "ArrowDown") {
      const by = (event.key === "ArrowUp" ? 0.5 : -0.5) * size;
      step(handle, (data) => {
        if (data.values.y !== undefined)
          data.values.y = round(held(data, "y", data.values.y + by), 0.1);
      });
    } else if (event.key === "[" || event.key === "]")
      step(handle, sharper(event.key === "]" ? size : -size));
    else if ((event.key === "Delete" || event.key === "Backspace") && "isEq" in board().dataset) {
      const { strip, place } = board().dataset;
      send(
        { kind: "remove_band", strip, place: +place, band: handle.dataset.number - 1 },
        board(),
        "remove band",
      );
    } else return;
    event.preventDefault();
    event.stopPropagation();
  },
  true,
);
document.addEventListener("keyup", (event) => event.key === "s" && hears && hearAll());
addEventListener("blur", () => hears && hearAll());

// Which curves are shown, and what plays through it.
function showCurves() {
  if (!board()) return;
  for (const [name, shown] of Object.entries(on)) {
    const button = board().querySelector(
      name === "record" ? "[data-record]" : `[data-show=${name}]`,
    );
    button?.setAttribute("aria-pressed", String(shown));
    for (const curve of svg()?.querySelectorAll(`[data-curve=${name}]`) ?? [])
      curve.toggleAttribute("hidden", !shown);
  }
}
document.addEventListener("click", ({ target }) => {
  const button = target.closest?.("#equaliser :is([data-show], [data-record])");
  if (!button) return;
  const name = button.dataset.show ?? "record";
  on[name] = !on[name];
  showCurves();
});

const SPAN_DB = [0, -96]; // of the spectra, from top to bottom
function pathOf(levels) {
  const points = levels.map((db, n) => {
    const part = Math.min(Math.max((db - SPAN_DB[0]) / (SPAN_DB[1] - SPAN_DB[0]), 0), 1);
    return `${(((n + 0.5) / BANDS) * WIDE).toFixed(1)} ${(part * HIGH).toFixed(1)}`;
  });
  return `M${points.join("L")}`;
}
function drawSpectrum() {
  if (!svg()) return;
  const spectrum = on.spectrum && player.playing ? player.current?.readings.spectrum : null;
  const [before, after] = [".before", ".after"].map((name) => svg().querySelector(name));
  if (!spectrum) return [before, after].forEach((path) => path.removeAttribute("d"));
  before.setAttribute("d", `${pathOf(spectrum.before)}V${HIGH}H0Z`);
  after.setAttribute("d", pathOf(spectrum.after));
}
inStep(drawSpectrum);
player.addEventListener("transport", drawSpectrum);

function watch() {
  const { strip, place } = board()?.dataset ?? {};
  const wanted = place === undefined ? null : { strip, place: +place };
  if (JSON.stringify(player.state.watched ?? null) !== JSON.stringify(wanted))
    player.set({ watched: wanted });
}
document.addEventListener("htmx:afterSettle", () => {
  watch();
  showCurves();
  putNudged();
});
watch();
showCurves();
