// Field: which sources are chosen, what their panels show, keys; the views draw themselves.

import { wrap } from "../shell/drawing.js";
import { inStep } from "../listen/bar.js";
import { player } from "../listen/player.js";
import { choiceOf } from "../shell/choice.js";
import { typed } from "../shell/command.js";
import { send } from "../shell/edit.js";
import { keepNudged, nudge, nudgedOf, restingOf } from "../shell/nudge.js";
import {
  build,
  CHART,
  dragging,
  flip,
  keepPlaces,
  mark,
  movable,
  show,
  take,
  trial,
} from "./chart.js";
import { parameterShown } from "../lanes/lane.js";
import { drawOverview, moveOn } from "./overview.js";
import { drawSpace, SPACE, turning } from "./space.js";
import { field, find, hold, mayEdit, placeOf } from "./state.js";

const PLACES = "places"; // those under the arrow keys
let filter = ""; // kept when the page is drawn anew
let part = "place"; // the part of the panel that is open
const viewAsked = () =>
  new URLSearchParams(location.search).get("view") === "space" ? "space" : "chart";
let view = "chart";
let shownFor = null;

function begin() {
  const found = document.querySelector(".field-board");
  if (!found) {
    if (field.board) keepNudged(); // others' are not its to keep
    field.board = null;
    return;
  }
  const list = found.querySelector("#field-list");
  if (!list || (found === field.board && list === field.list)) return;
  [field.board, field.list] = [found, list];
  choiceOf({ chosen: () => [...field.picked].reverse() });
  find("#field-filter").value = filter;
  field.objects = JSON.parse(list.dataset.objects);
  field.beds = JSON.parse(list.dataset.beds);
  const known = new Set([...list.querySelectorAll("tr[data-id]")].map((row) => row.dataset.id));
  for (const ids of [field.picked, restingOf(PLACES)])
    for (const id of ids?.keys() ?? []) if (!known.has(id)) ids.delete(id);
  putNudged();
  build();
  view = viewAsked();
  showView();
  pick();
}

function redraw() {
  if (!field.board) return;
  show();
  drawSpace();
  if (!field.picked.size) moveOn(find("#field-lanes"));
}

function pick() {
  if (!field.board) return;
  const wanted = filter.trim().toLowerCase();
  mark(wanted);
  for (const row of field.list.querySelectorAll("tr[data-id]")) {
    row.classList.toggle("chosen", field.picked.has(row.dataset.id));
    row.hidden =
      Boolean(wanted) && !row.querySelector(".name").textContent.toLowerCase().includes(wanted);
  }
  // the panel is of the one that was chosen last
  const one = [...field.picked].at(-1) ?? null;
  const key = `${one} ${document.getElementById("history").dataset.revision} ${location.pathname}`;
  if (one !== null && (shownFor?.key !== key || shownFor.board !== field.board)) {
    htmx.ajax("GET", addressOf(one), {
      source: "#field-one",
      target: "#field-one",
      swap: "innerHTML",
    });
    const parameter = shownFor?.one === one ? parameterShown() : "";
    htmx.ajax(
      "GET",
      `${find("#field-lanes").dataset.lanes}?${new URLSearchParams({ strip: one, parameter })}`,
      {
        source: "#field-lanes",
        target: "#field-lanes",
        swap: "innerHTML",
      },
    );
  }
  if (one === null) drawOverview(find("#field-lanes"), (id) => choose(id, false));
  shownFor = { one, key, board: field.board };
  const counted = field.list.querySelectorAll("tr[data-id]").length;
  find(".picked-count").textContent = field.picked.size
    ? `${field.picked.size} chosen`
    : `${counted} placed`;
  redraw();
}

const addressOf = (strip) => `${field.board.dataset.base}strip/${encodeURIComponent(strip)}`;

function choose(id, more) {
  if (id === null) field.picked.clear();
  else if (!more && !field.picked.has(id)) {
    field.picked.clear();
    field.picked.add(id);
  } else if (more && field.picked.has(id)) field.picked.delete(id);
  else {
    field.picked.delete(id);
    field.picked.add(id);
  }
  pick();
}
const all = () => {
  const marks = field.objects.filter((object) => object.mark).map((object) => object.id);
  const every = marks.every((id) => field.picked.has(id));
  field.picked.clear();
  if (!every) marks.forEach((id) => field.picked.add(id));
  pick();
};

function showView() {
  find("#field-chart").toggleAttribute("hidden", view !== "chart");
  find("#field-space").toggleAttribute("hidden", view !== "space");
  for (const link of document.querySelectorAll("#views a")) {
    if (link.search.endsWith(view)) link.setAttribute("aria-current", "true");
    else link.removeAttribute("aria-current");
  }
  field.board.querySelector("input[name=view]").value = view;
}
// both views are of the same drawing: nothing is asked of the server
document.addEventListener(
  "click",
  (event) => {
    const link = field.board && event.target.closest?.("#views a");
    if (!link) return;
    event.preventDefault();
    event.stopPropagation();
    const address = new URL(location.href);
    address.searchParams.set("view", new URL(link.href).searchParams.get("view"));
    history.replaceState(null, "", address);
    view = viewAsked();
    showView();
    redraw();
  },
  { capture: true },
);
function showPart() {
  const panel = find("#field-one");
  if (!panel.querySelector(`[data-shows=${part}]`)) return;
  panel
    .querySelectorAll("[data-shows]")
    .forEach((box) => (box.hidden = box.dataset.shows !== part));
  panel
    .querySelectorAll("[data-part]")
    .forEach((tab) => tab.setAttribute("aria-selected", String(tab.dataset.part === part)));
  standIns();
}

// A test signal in the place of a source, heard alone; what was heard before comes back.
let before = null;
function standIn(button) {
  const { of: strip, standIn: signal } = button.dataset;
  const monitorSource = player.state.monitor_sources[player.side];
  if (monitorSource.stand_in === signal && monitorSource.strip === strip) {
    player.setMonitorSource(before ?? {});
    before = null;
  } else {
    if (!monitorSource.stand_in) before = monitorSource;
    player.setMonitorSource({
      target: monitorSource.target,
      what: "stem",
      strip,
      stand_in: signal,
    });
    if (!player.playing) player.play();
  }
}
function standIns() {
  const monitorSource = player.state?.monitor_sources?.[player.side] ?? {};
  document
    .querySelectorAll("[data-stand-in]")
    .forEach((button) =>
      button.setAttribute(
        "aria-pressed",
        String(
          monitorSource.stand_in === button.dataset.standIn &&
            monitorSource.strip === button.dataset.of,
        ),
      ),
    );
}

dragging(choose, redraw, CHART);
dragging(choose, redraw, SPACE);
turning();

function putNudged() {
  const places = nudgedOf(PLACES);
  for (const object of field.objects)
    if (places?.has(object.id)) [object.azimuth_deg, object.elevation_deg] = places.get(object.id);
}
document.addEventListener(
  "keydown",
  (event) => {
    const mark = field.board && event.target.closest?.("#field-chart .object");
    if (!mark) return;
    const step = event.shiftKey ? 5 : 1;
    const [da, de] = {
      ArrowLeft: [step, 0],
      ArrowRight: [-step, 0],
      ArrowUp: [0, step],
      ArrowDown: [0, -step],
    }[event.key] ?? [0, 0];
    const id = mark.dataset.id;
    if (event.key === "Enter" || event.key === " ") choose(id, true);
    else if (event.key === "Escape") choose(null);
    else if (da || de) {
      if (!field.picked.has(id)) choose(id, false);
      if (!mayEdit()) return;
      const places = new Map(restingOf(PLACES));
      for (const object of movable())
        places.set(object.id, [wrap(placeOf(object)[0] + da), hold(placeOf(object)[1] + de)]);
      if (!places.size) return;
      nudge(PLACES, places, keepPlaces);
      putNudged();
      redraw();
      trial(places);
    } else return;
    event.preventDefault();
    event.stopPropagation();
  },
  true,
);
document.addEventListener("focusin", (event) => {
  const mark = field.board && event.target.closest?.("#field-chart .object");
  if (mark && !field.picked.size) choose(mark.dataset.id, false);
});
document.addEventListener("click", (event) => {
  if (!field.board) return;
  const button = event.target.closest?.("button");
  if (!button) return;
  const { pick: picked, part: wanted } = button.dataset;
  if (picked) choose(picked, event.shiftKey || event.ctrlKey);
  else if ("pickAll" in button.dataset) all();
  else if (wanted) {
    part = wanted;
    showPart();
  } else if (button.dataset.standIn) standIn(button);
  else for (const name of ["record", "draw"]) if (name in button.dataset) flip(name);
});
document.addEventListener("input", (event) => {
  if (event.target.id !== "field-filter") return;
  filter = event.target.value;
  pick();
});
document.addEventListener("change", (event) => {
  if (event.target.id === "field-group" && event.target.value) {
    field.picked.clear();
    for (const object of field.objects)
      if (object.group === event.target.value) field.picked.add(object.id);
    pick();
  }
});

// Several at once: the chosen ones, or all objects where none are chosen.
const several = (modes) => {
  if (field.picked.size && modes.length === 1) return [...field.picked];
  return field.objects.filter((object) => modes.includes(object.mode)).map((object) => object.id);
};
document.addEventListener("submit", (event) => {
  const form = event.target;
  if (!field.board || !form.matches("[data-arrange], [data-convert]")) return;
  event.preventDefault();
  if (form.matches("[data-convert]")) {
    const { to, reference } = form.elements;
    const strips = several(["object"]);
    return send(
      to.value === "back"
        ? { kind: "use_kept_form", strips }
        : { kind: "convert", strips, to: to.value, reference: reference.value },
      form,
      "convert",
    );
  }
  const { how, by } = form.elements;
  const { amount, whole } = how.selectedOptions[0].dataset;
  const strips = several(whole === undefined ? ["object"] : ["object", "scene"]);
  send({ kind: how.value, strips, ...(amount && { [amount]: typed(by.value) }) }, form, "arrange");
});
document.addEventListener("htmx:afterSettle", () => {
  begin();
  if (!field.board) return;
  showPart();
});
document.addEventListener("keydown", (event) => {
  if (
    !field.board ||
    event.ctrlKey ||
    event.metaKey ||
    event.altKey ||
    event.target.matches?.("input, select, textarea")
  )
    return;
  if (event.key === "p") flip("record");
  else if (event.key === "d") flip("draw");
  else if (event.key === "a") all();
});
player.addEventListener("transport", redraw);
player.addEventListener("state", standIns);
inStep(redraw);
inStep(take);
begin();
