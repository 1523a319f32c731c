// Field: sources on the whole-sphere chart, dragged, nudged and typed; plan and side go with them.

import { player } from "../listen/player.js";
import { inStep } from "../listen/bar.js";

const SVG = "http://www.w3.org/2000/svg";
const NAMED_UP_TO = 40; // with more, only the chosen ones show their names
let board = null;
let objects = [];
const picked = new Set();
let filter = ""; // kept when the page is drawn anew
let drag = null;

const radians = (degrees) => (degrees * Math.PI) / 180;
const degrees = (angle) => (angle * 180) / Math.PI;
const find = (selector) => board.querySelector(selector);

// The Hammer projection, as the server draws it: 100 units to the unit, y downwards.
function onChart(azimuth, elevation) {
  const [half, high] = [radians(azimuth) / 2, radians(elevation)];
  const scale = Math.sqrt(1 + Math.cos(high) * Math.cos(half));
  return [(-200 * Math.cos(high) * Math.sin(half)) / scale, (-100 * Math.sin(high)) / scale];
}
function fromChart(x, y) {
  let [u, v] = [(-x / 100) * Math.SQRT2, (-y / 100) * Math.SQRT2];
  const outside = (u / 4) ** 2 * 2 + (v / 2) ** 2 * 2; // beyond the edge: to the nearest point on it
  if (outside > 0.999) [u, v] = [u / Math.sqrt(outside / 0.999), v / Math.sqrt(outside / 0.999)];
  const z = Math.sqrt(1 - (u / 4) ** 2 - (v / 2) ** 2);
  return [degrees(2 * Math.atan2(z * u, 2 * (2 * z * z - 1))), degrees(Math.asin(Math.max(-1, Math.min(1, z * v))))];
}
const wrap = (azimuth) => ((((azimuth + 180) % 360) + 360) % 360) - 180;
const lane = (points, at) => {
  if (!points) return null;
  if (at <= points[0][0]) return points[0][1];
  for (let i = 1; i < points.length; i++) {
    const [[t0, v0], [t1, v1]] = [points[i - 1], points[i]];
    if (at <= t1) return t1 > t0 ? v0 + ((v1 - v0) * (at - t0)) / (t1 - t0) : v1;
  }
  return points.at(-1)[1];
};
const moves = (object) => Boolean(object.path.azimuth_deg || object.path.elevation_deg);
const placeOf = (object) => {
  const at = player.position / player.rate;
  return [lane(object.path.azimuth_deg, at) ?? object.azimuth_deg, lane(object.path.elevation_deg, at) ?? object.elevation_deg];
};

function begin() {
  const found = document.querySelector(".field-board");
  if (!found) return (board = null);
  const list = found.querySelector("#field-list");
  if (!list) return;
  if (found === board && list === board.list) return;
  board = found;
  board.list = list;
  find("#field-filter").value = filter;
  objects = JSON.parse(list.dataset.objects);
  for (const id of picked) if (!objects.some((object) => object.id === id)) picked.delete(id);
  build();
}

const make = (name, attributes, ...children) => {
  const element = document.createElementNS(SVG, name);
  for (const [key, value] of Object.entries(attributes)) element.setAttribute(key, value);
  element.append(...children);
  return element;
};

function build() {
  const shown = objects.filter((object) => object.mode === "object");
  find(".objects").replaceChildren(
    ...shown.map((object) => {
      const title = make("title", {});
      title.textContent = `${object.name}${moves(object) ? ", moves by automation" : ""}`;
      const number = make("text", { class: "number", "text-anchor": "middle", y: 3.4 });
      number.textContent = object.number;
      const name = make("text", { class: "label" });
      name.textContent = object.name;
      const label = `${object.number}, ${object.name}`;
      object.mark = make("g", { class: "object", tabindex: 0, role: "button", "aria-label": label, "data-id": object.id },
        make("circle", { class: "spread" }), make("circle", { class: "level", r: 0 }), make("circle", { class: "body", r: 6.2 }), number, name, title);
      return object.mark;
    }),
  );
  find(".paths").replaceChildren(...shown.filter(moves).map(drawPath));
  for (const view of ["#field-plan", "#field-side"]) {
    find(`${view} .marks`).replaceChildren(...shown.map((object) => ((object[view] = make("circle", { r: 4.5 })), object[view])));
  }
  show();
  pick();
}

function drawPath(object) {
  const times = [...new Set([...(object.path.azimuth_deg ?? []), ...(object.path.elevation_deg ?? [])].map(([t]) => t))].sort((a, b) => a - b);
  let path = "";
  let last = null;
  for (let i = 0; i <= 160; i++) {
    const at = times[0] + ((times.at(-1) - times[0]) * i) / 160;
    const [x, y] = onChart(wrap(lane(object.path.azimuth_deg, at) ?? object.azimuth_deg), lane(object.path.elevation_deg, at) ?? object.elevation_deg);
    path += `${last !== null && Math.abs(x - last) < 150 ? "L" : "M"}${x.toFixed(1)} ${y.toFixed(1)}`;
    last = x;
  }
  return make("path", { d: path, "data-id": object.id });
}

function show() {
  if (!board) return;
  const levels = player.playing ? (player.current?.readings.strips ?? {}) : {};
  for (const object of objects) {
    if (!object.mark) continue;
    const [azimuth, elevation] = drag?.places.get(object.id) ?? placeOf(object);
    const [x, y] = onChart(wrap(azimuth), elevation);
    object.mark.setAttribute("transform", `translate(${x.toFixed(1)} ${y.toFixed(1)})`);
    const right = x > 150;
    const name = object.mark.querySelector(".label");
    name.setAttribute("x", right ? -9 : 9);
    name.setAttribute("y", 3.5);
    name.setAttribute("text-anchor", right ? "end" : "start");
    object.mark.querySelector(".spread").setAttribute("r", object.extent_deg ? (object.extent_deg / 180) * 100 : 0);
    const level = levels[object.ref];
    object.mark.querySelector(".level").setAttribute("r", level === undefined ? 0 : 6.2 + Math.max(0, (level + 60) / 60) * 9);
    const [a, e] = [radians(azimuth), radians(elevation)];
    const [right_, front, up] = [-Math.sin(a) * Math.cos(e), Math.cos(a) * Math.cos(e), Math.sin(e)];
    object["#field-plan"].setAttribute("cx", 90 * right_);
    object["#field-plan"].setAttribute("cy", -90 * front);
    object["#field-side"].setAttribute("cx", 90 * front);
    object["#field-side"].setAttribute("cy", -90 * up);
  }
  const energy = player.playing && player.current?.readings.energy;
  find(".energy").toggleAttribute("hidden", !energy);
  if (energy) find(".energy").setAttribute("transform", `translate(${energy.x * 100} ${-energy.y * 100})`);
}

function pick() {
  if (!board) return;
  const wanted = find("#field-filter").value.trim().toLowerCase();
  const many = objects.length > NAMED_UP_TO;
  for (const object of objects) {
    const chosen = picked.has(object.id);
    const out = wanted && !object.name.toLowerCase().includes(wanted);
    for (const element of [object.mark, object["#field-plan"], object["#field-side"]]) {
      element?.classList.toggle("chosen", chosen);
      element?.classList.toggle("faint", Boolean(out));
    }
    object.mark?.classList.toggle("nameless", many && !chosen);
    object.mark?.setAttribute("aria-pressed", String(chosen));
    const row = find(`tr[data-id="${object.id}"]`);
    row?.classList.toggle("chosen", chosen);
    if (row) row.hidden = Boolean(out);
  }
  board.querySelectorAll(".paths path").forEach((path) => path.classList.toggle("chosen", picked.has(+path.dataset.id)));
  const one = picked.size === 1 ? [...picked][0] : null;
  if (one !== null && (one !== board.one || board.oneOf !== board.list)) htmx.ajax("GET", `${board.dataset.base}${one}`, { target: "#field-one", swap: "innerHTML" });
  [board.one, board.oneOf] = [one, board.list];
  find(".picked-count").textContent = picked.size ? `${picked.size} chosen` : `${objects.length} placed`;
}

function choose(id, more) {
  if (!more && !picked.has(id)) picked.clear();
  if (more && picked.has(id)) picked.delete(id);
  else picked.add(id);
  pick();
}

// Places are sent as one edit; while they are dragged they are heard as a trial.
function send(places) {
  const rounded = Object.fromEntries([...places].map(([id, [a, e]]) => [id, [Math.round(a * 10) / 10, Math.round(e * 10) / 10]]));
  htmx.ajax("POST", `${board.dataset.base}move`, { values: { places: JSON.stringify(rounded) }, swap: "none", source: board });
}
function trial(places) {
  for (const [id, [azimuth, elevation]] of places) {
    const base = board.dataset.base.replace("/field/", "/flow/");
    player.preview(`${base}${id}/set/azimuth_deg`, azimuth);
    player.preview(`${base}${id}/set/elevation_deg`, elevation);
  }
}
const movable = () => objects.filter((object) => picked.has(object.id) && object.mark && !moves(object));
const atPointer = (event) => {
  const point = new DOMPoint(event.clientX, event.clientY).matrixTransform(find("#field-chart").getScreenCTM().inverse());
  return fromChart(point.x, point.y);
};

document.addEventListener("pointerdown", (event) => {
  const mark = board && event.target.closest?.("#field-chart .object");
  if (!mark) {
    if (board && event.target.closest?.("#field-chart") && !event.shiftKey) {
      picked.clear();
      pick();
    }
    return;
  }
  const id = +mark.dataset.id;
  choose(id, event.shiftKey || event.ctrlKey);
  if (!("edit" in board.dataset) || !picked.has(id)) return;
  const main = objects.find((object) => object.id === id);
  const taking = recording() && player.playing;
  const held = taking ? [main] : movable();
  if (!held.length || (moves(main) && !taking)) return;
  drag = { path: taking ? [] : null, main, from: new Map(held.map((object) => [object.id, placeOf(object)])), places: new Map(), start: [event.clientX, event.clientY], heard: 0 };
  find("#field-chart").setPointerCapture(event.pointerId);
});
document.addEventListener("pointermove", (event) => {
  if (!drag) return;
  if (!drag.places.size && Math.hypot(event.clientX - drag.start[0], event.clientY - drag.start[1]) < 4) return;
  const [azimuth, elevation] = atPointer(event);
  const [a0, e0] = drag.from.get(drag.main.id);
  // an arrangement turns as one; heights move together and stop at the poles
  if (drag.path) drag.places.set(drag.main.id, [azimuth, elevation]);
  else for (const [id, [a, e]] of drag.from) drag.places.set(id, [wrap(a + azimuth - a0), Math.max(-90, Math.min(90, e + elevation - e0))]);
  show();
  if (performance.now() - drag.heard > 60) {
    drag.heard = performance.now();
    trial(drag.places);
  }
});
const drop = () => {
  if (!drag) return;
  const { places, from, path, main } = drag;
  drag = null;
  if (!places.size) return;
  if (path) {
    htmx.ajax("POST", `${board.dataset.base}${main.id}/record`, { values: { points: JSON.stringify(path) }, swap: "none", source: board });
    return;
  }
  for (const object of objects) if (from.has(object.id)) [object.azimuth_deg, object.elevation_deg] = places.get(object.id);
  send(places);
};
document.addEventListener("pointerup", drop);
document.addEventListener("pointercancel", drop);

let pending = null;
document.addEventListener("keydown", (event) => {
  const mark = board && event.target.closest?.("#field-chart .object");
  if (!mark) return;
  const step = event.shiftKey ? 5 : 1;
  const [da, de] = { ArrowLeft: [step, 0], ArrowRight: [-step, 0], ArrowUp: [0, step], ArrowDown: [0, -step] }[event.key] ?? [0, 0];
  const id = +mark.dataset.id;
  if (event.key === "Enter" || event.key === " ") choose(id, true);
  else if (event.key === "Escape") {
    picked.clear();
    pick();
  } else if (da || de) {
    if (!picked.has(id)) choose(id, false);
    if (!("edit" in board.dataset)) return;
    const places = new Map(movable().map((object) => [object.id, [wrap(object.azimuth_deg + da), Math.max(-90, Math.min(90, object.elevation_deg + de))]]));
    for (const object of objects) if (places.has(object.id)) [object.azimuth_deg, object.elevation_deg] = places.get(object.id);
    show();
    trial(places);
    clearTimeout(pending);
    if (places.size) pending = setTimeout(() => send(places), 350);
  } else return;
  event.preventDefault();
  event.stopPropagation();
}, true);
document.addEventListener("focusin", (event) => {
  const mark = board && event.target.closest?.("#field-chart .object");
  if (mark && !picked.size) choose(+mark.dataset.id, false);
});

document.addEventListener("click", (event) => {
  const button = board && event.target.closest?.("[data-pick]");
  if (button) choose(+button.dataset.pick, event.shiftKey || event.ctrlKey);
});
document.addEventListener("input", (event) => {
  if (event.target.id !== "field-filter") return;
  filter = event.target.value;
  pick();
});
document.addEventListener("change", (event) => event.target.matches?.("[data-submit]") && event.target.form.requestSubmit());
document.addEventListener("htmx:configRequest", (event) => {
  if (board) event.detail.headers["X-Profile"] = board.dataset.profile;
  if (event.detail.elt.closest?.("[data-with-picked]")) event.detail.parameters.ids = [...picked].join();
});
document.addEventListener("htmx:afterSettle", begin);
player.addEventListener("transport", show);
inStep(show);

// While it plays and Record is on, where the hand holds a source is kept thirty times a second.
const recording = () => find("[data-record]")?.getAttribute("aria-pressed") === "true";
inStep(() => {
  if (!drag?.path) return;
  const place = drag.places.get(drag.main.id);
  const at = Math.round((player.position / player.rate) * 1000) / 1000;
  if (place && at > (drag.path.at(-1)?.[0] ?? -1)) drag.path.push([at, ...place.map((angle) => Math.round(angle * 100) / 100)]);
});
const record = () => find("[data-record]")?.setAttribute("aria-pressed", String(!recording()));
document.addEventListener("click", (event) => board && event.target.closest?.("[data-record]") && record());
document.addEventListener("keydown", (event) => {
  if (board && event.key === "r" && !event.ctrlKey && !event.metaKey && !event.target.matches?.("input, select, textarea")) record();
});
begin();
