// Flow: what is chosen, the strip that is open, menus, and the map's dragging and keys.

import { choiceOf } from "../shell/choice.js";
import { send } from "../shell/edit.js";
import "./levels.js";

const flow = () => document.querySelector(".flow");
const panel = () => document.getElementById("panel");
const picked = new Set();
let lastPick = null;

const begin = () =>
  flow() &&
  choiceOf({
    chosen: () => [...picked],
    groups: () => document.getElementById("in-groups")?.checked ?? false,
  });

// -- the open strip is kept in the address, so that reload and undo keep it

const opened = () => panel()?.querySelector("[data-open]")?.dataset.open;
const wanted = () => new URLSearchParams(location.search).get("strip") ?? "";
let opening = ""; // what was opened and is on its way
function load(strip) {
  opening = strip;
  htmx
    .ajax("GET", `${flow().dataset.base}strip/${encodeURIComponent(strip)}`, {
      source: flow(),
      target: "#panel",
      swap: "innerHTML",
    })
    .finally(() => {
      if (opening === strip) opening = "";
      mark();
    });
}
function open(strip) {
  const address = new URL(location.href);
  if (strip) address.searchParams.set("strip", strip);
  else address.searchParams.delete("strip");
  history.replaceState(null, "", address);
  if (!strip) {
    opening = "";
    panel().replaceChildren();
    drawMap();
  }
  if (strip && opened() !== strip) load(strip);
  mark();
}
// An answer brings the panel that was open when it was asked for; another one that was opened since stays.
let asked = "";
document.addEventListener("htmx:beforeSwap", ({ detail }) => {
  asked = detail.requestConfig.headers["X-Panel"] ?? "";
});
document.addEventListener("htmx:oobBeforeSwap", ({ detail }) => {
  const now = opening || (opened() ?? "");
  if (detail.target.id !== "panel" || asked === now) return;
  detail.shouldSwap = false;
  if (now) load(now);
});
function mark() {
  const strip = wanted();
  document
    .querySelectorAll("tr.chosen, .node.open")
    .forEach((one) => one.classList.remove("chosen", "open"));
  if (strip) {
    document.getElementById(`strip-${strip}`)?.classList.add("chosen");
    document.getElementById(`node-s${strip}`)?.classList.add("open");
  }
  follow();
}
document.addEventListener("click", (event) => {
  const name = event.target.closest?.("[data-strip]");
  if (name && flow()) open(name.dataset.strip);
  if (event.target.closest?.("[data-close-panel]")) open("");
  const fold = event.target.closest?.("[data-fold]");
  if (fold) fold.setAttribute("aria-expanded", fold.closest("table").classList.toggle("unfolded"));
});

// -- one processor of the chain is open at a time

const openPart = () =>
  panel()?.querySelector("[data-open-part][aria-selected=true]")?.dataset.openPart ?? "0";
function showPart(number) {
  panel()
    .querySelectorAll("[data-open-part]")
    .forEach((tab) => tab.setAttribute("aria-selected", String(tab.dataset.openPart === number)));
  panel()
    .querySelectorAll(".processor")
    .forEach((part) => (part.hidden = part.id !== `part-${number}`));
}
document.addEventListener("click", ({ target }) => {
  const tab = target.closest?.("[data-open-part]");
  if (tab) showPart(tab.dataset.openPart);
});
// the one that is moved stays the one that is open; said before the move is sent
document.addEventListener(
  "click",
  ({ target }) => {
    const moved = target.closest?.("#panel [data-command*=move_processor]");
    if (moved) showPart(String(JSON.parse(moved.dataset.command).to));
  },
  { capture: true },
);

// -- menus are alike in every row, so they are filled here and not sent with each; anew where what they offer changed

function fill(root, anew = false) {
  root.querySelectorAll?.("select[data-menu]").forEach((select) => {
    if (select.dataset.filled && !anew) return;
    select.dataset.filled = "yes";
    const held = select.options[0];
    const value = select.value;
    select.replaceChildren(...(held ? [held] : []));
    const self =
      select.closest("[data-id]")?.dataset.id ?? (select.closest("#panel") ? opened() : "");
    const options = document.getElementById(`menu-${select.dataset.menu}`).content.cloneNode(true);
    for (const option of [...options.children])
      if (option.dataset.bus === self || option.value === held?.value) option.remove();
    select.append(options);
    if ([...select.options].some((option) => option.value === value)) select.value = value;
    select.dataset.sent = select.value;
  });
}
// -- what is chosen, for one action on many

function showPicked() {
  document.querySelectorAll(".pick").forEach((box) => (box.checked = picked.has(box.value)));
  document
    .querySelectorAll(".node[data-id]")
    .forEach((node) => node.classList.toggle("picked", picked.has(node.dataset.id)));
  const bar = document.getElementById("chosen");
  if (!bar) return;
  bar.hidden = picked.size === 0;
  bar.querySelector("[data-count]").textContent = `${picked.size} chosen`;
  // the heads of the table stay in sight beneath it
  flow().style.setProperty("--heads-top", `${bar.hidden ? 0 : bar.offsetHeight}px`);
}
function pick(id, on = !picked.has(id)) {
  if (on) picked.add(id);
  else picked.delete(id);
  lastPick = id;
  showPicked();
}
// what is searched away, folded or hidden is not chosen along
const inSightToPick = () =>
  [...document.querySelectorAll("tr:not(.resting-row) .pick")].filter((box) =>
    box.checkVisibility(),
  );
document.addEventListener("click", (event) => {
  const box = event.target.closest?.(".pick");
  if (box) {
    const boxes = inSightToPick();
    const [from, to] = [boxes.findIndex((one) => one.value === lastPick), boxes.indexOf(box)];
    if (event.shiftKey && from >= 0)
      boxes
        .slice(Math.min(from, to), Math.max(from, to) + 1)
        .forEach((one) => pick(one.value, picked.has(lastPick)));
    pick(box.value, box.checked);
  }
  if (event.target.id === "choose-all") {
    for (const one of inSightToPick()) pick(one.value, event.target.checked);
  }
  if (event.target.closest?.("[data-none]")) chooseNone();
  const way = event.target.closest?.("#chosen [data-do]");
  if (way)
    routeTo([...picked], document.querySelector("#chosen [data-route]").value, way.dataset.do);
  const conversion = event.target.closest?.("#chosen [data-convert]");
  if (conversion)
    htmx.ajax("POST", flow().dataset.base + conversion.dataset.convert, {
      source: flow(),
      swap: "none",
      values: { ids: [...picked].join() },
    });
});
function chooseNone() {
  picked.clear();
  showPicked();
}
document.addEventListener("flow-hide-chosen", chooseNone);
document.addEventListener("strip-made", ({ detail }) => {
  if (flow()) open(detail.value);
});
document.addEventListener("change", ({ target }) => {
  if (!target.value || !target.closest?.("#chosen")) return;
  if (target.matches("[data-add-to-chosen]"))
    send(
      {
        kind: "batch",
        commands: [...picked].map((strip) => ({
          kind: "add_processor",
          strip,
          processor: target.value,
        })),
      },
      flow(),
      "chosen processor",
    );
  else if (target.matches("[data-colour-chosen]"))
    send(
      { kind: "set", strips: [...picked], path: "colour", value: target.value },
      flow(),
      "colour",
    );
  else return;
  target.value = "";
});
const routeTo = (strips, to, how) =>
  send(
    how === "feed"
      ? { kind: "route", strips, to }
      : { kind: "send", strips, bus: to, level_db: -12 },
    flow(),
    "route",
  );
document.addEventListener("submit", (event) => {
  if (event.target.id === "print-form") {
    event.preventDefault();
    const { start_s, end_s, rest } = event.target.elements;
    const values = { ids: [...picked].join(), start_s: start_s.value, end_s: end_s.value };
    if (rest.checked) values.rest = "on";
    event.target.hidePopover();
    htmx.ajax("POST", `${flow().dataset.base}print`, {
      source: flow(),
      target: "#prints",
      swap: "afterbegin",
      values,
    });
  }
});

document.addEventListener("htmx:configRequest", (event) => {
  const { path, parameters, headers, elt } = event.detail;
  if (!flow()) return;
  if (opened()) headers["X-Panel"] = opened();
  headers["X-View"] = flow().dataset.view;
  headers["X-Part"] = openPart();
  if (path.endsWith("/map")) {
    parameters.width = Math.max(elt.clientWidth, 560);
    parameters.height = Math.max(flow().clientHeight - elt.offsetTop - 16, 300);
  }
});

// -- the map

const map = () => document.getElementById("map");
let drag = null;
let waiting;
function drawMap() {
  clearTimeout(waiting);
  waiting = setTimeout(() => {
    if (map()) {
      map().setAttribute("aria-busy", "true");
      htmx.trigger(map(), "draw-map");
    }
  }, 120);
}
document.addEventListener("htmx:afterSettle", ({ target }) => {
  if (target.id !== "map") return;
  target.setAttribute("aria-busy", "false");
  if (routing) offerAims();
});
document.addEventListener("mix-edited", drawMap);
document.addEventListener("survey-changed", drawMap);
addEventListener("resize", drawMap);
let mapWidth = 0;
document.addEventListener("htmx:afterSettle", () => {
  if (map() && map().clientWidth !== mapWidth) {
    mapWidth = map().clientWidth;
    drawMap();
  }
});
const nodeAt = (x, y) => document.elementFromPoint(x, y)?.closest?.(".node");

// what is joined to the open strip, up to its sources and down to the targets, stands out
function follow() {
  if (!map()) return;
  const start = map().querySelector(".node.open")?.dataset.key;
  const ways = [...map().querySelectorAll(".ribbons [data-from]")];
  const lit = new Set(start ? [start] : []);
  const litWays = new Set();
  for (const [here, there] of [
    ["from", "to"],
    ["to", "from"],
  ]) {
    const found = start ? [start] : [];
    while (found.length) {
      const key = found.pop();
      for (const way of ways) {
        if (way.dataset[here] !== key || litWays.has(way)) continue;
        litWays.add(way);
        lit.add(way.dataset[there]);
        found.push(way.dataset[there]);
      }
    }
  }
  const only = document.getElementById("only-path")?.checked && start;
  map().classList.toggle("following", Boolean(start));
  map().classList.toggle("only", Boolean(only));
  ways.forEach((way) => way.classList.toggle("lit", litWays.has(way)));
  map()
    .querySelectorAll(".node")
    .forEach((node) => node.classList.toggle("lit", lit.has(node.dataset.key)));
}
document.addEventListener("change", (event) => {
  if (event.target.id === "only-path") follow();
});

document.addEventListener("pointerdown", (event) => {
  const node = event.button === 0 && event.target.closest?.("#map .node[data-id]");
  if (!event.target.closest?.("#drop-menu")) hideDrop();
  if (!node) return;
  drag = { node, x: event.clientX, y: event.clientY, line: null };
});
document.addEventListener("pointermove", (event) => {
  if (!drag) return;
  if (!drag.line) {
    if (Math.hypot(event.clientX - drag.x, event.clientY - drag.y) < 5) return;
    drag.line = document.createElementNS("http://www.w3.org/2000/svg", "path");
    drag.line.setAttribute("class", "dragged");
    map().querySelector("svg").append(drag.line);
  }
  const span = map().querySelector("svg").getBoundingClientRect();
  const box = drag.node.getBoundingClientRect();
  const [x, y] = [box.right - span.left, box.top + box.height / 2 - span.top];
  const [u, v] = [event.clientX - span.left, event.clientY - span.top];
  drag.line.setAttribute("d", `M${x} ${y}C${(x + u) / 2} ${y} ${(x + u) / 2} ${v} ${u} ${v}`);
  const over = nodeAt(event.clientX, event.clientY);
  map()
    .querySelectorAll(".node.over")
    .forEach((one) => one.classList.remove("over"));
  if (over?.dataset.aim && over !== drag.node) over.classList.add("over");
});
document.addEventListener("pointerup", (event) => {
  if (!drag) return;
  const { node, line } = drag;
  drag = null;
  line?.remove();
  map()
    ?.querySelectorAll(".node.over")
    .forEach((one) => one.classList.remove("over"));
  if (!line) {
    if (event.ctrlKey || event.metaKey || event.shiftKey) pick(node.dataset.id);
    else open(node.dataset.id);
    return;
  }
  const over = nodeAt(event.clientX, event.clientY);
  if (over?.dataset.aim && over !== node) drop(node, over, event.clientX, event.clientY);
});

// dropped on a bus it may be the main feed or a send; the mix takes only feeds
let dropped = null;
function drop(node, over, x, y) {
  const strips = picked.has(node.dataset.id) && picked.size > 1 ? [...picked] : [node.dataset.id];
  dropped = { strips, to: over.dataset.aim };
  if (dropped.to === "programme") return route("feed");
  const menu = document.getElementById("drop-menu");
  menu.hidden = false;
  menu.style.left = `${x}px`;
  menu.style.top = `${y}px`;
  menu.querySelector("button").focus();
}
function route(how) {
  routeTo(dropped.strips, dropped.to, how);
  hideDrop();
}
function hideDrop() {
  const menu = document.getElementById("drop-menu");
  if (menu) menu.hidden = true;
}
document.addEventListener("click", (event) => {
  const way = event.target.closest?.("#drop-menu [data-do]");
  if (way) route(way.dataset.do);
});

// keys: arrows go from box to box, Enter opens, x chooses, m mutes, f routes: then an aim is picked with arrows and Enter
let routing = null;
document.addEventListener("keydown", (event) => {
  if (event.key === "Escape") {
    routing = null;
    map()?.classList.remove("routing");
    const menu = document.getElementById("drop-menu");
    if (menu) menu.hidden = true;
  }
  const node = event.target.closest?.("#map .node[data-id], #map .node[data-aim]");
  if (!node || event.ctrlKey || event.metaKey) return;
  const steps = { ArrowUp: [0, -1], ArrowDown: [0, 1], ArrowLeft: [-1, 0], ArrowRight: [1, 0] };
  if (steps[event.key]) {
    event.preventDefault();
    step(node, ...steps[event.key])?.focus();
  } else if (event.key === "Enter") {
    event.preventDefault();
    if (!routing) return open(node.dataset.id);
    const box = node.getBoundingClientRect();
    if (node.dataset.aim && node.dataset.id !== routing.dataset.id)
      drop(routing, node, box.left + 20, box.bottom);
    routing = null;
    map().classList.remove("routing");
  } else if (event.key === "x") pick(node.dataset.id);
  else if (event.key === "m")
    send(
      {
        kind: "set",
        strips: [node.dataset.id],
        path: "muted",
        value: !node.classList.contains("is-muted"),
        with_group: true,
      },
      node,
      `${node.dataset.id} muted`,
    );
  else if (event.key === "f") {
    routing = node;
    offerAims();
    step(node, 1, 0)?.focus();
  }
});
function offerAims() {
  map().classList.add("routing");
  map()
    .querySelectorAll(".node.place")
    .forEach((one) => one.setAttribute("tabindex", "0"));
}
function step(node, across, down) {
  const from = node.getBoundingClientRect();
  const all = [...map().querySelectorAll('.node[tabindex="0"]')].filter((one) => one !== node);
  const [x, y] = [from.left, from.top + from.height / 2];
  let best = null;
  let least = Infinity;
  for (const one of all) {
    const box = one.getBoundingClientRect();
    const [dx, dy] = [box.left - x, box.top + box.height / 2 - y];
    const ahead = across ? dx * across : dy * down;
    if (ahead <= 2) continue;
    const cost = ahead + 3 * Math.abs(across ? dy / 4 : dx);
    if (cost < least) [best, least] = [one, cost];
  }
  return best;
}

// -- what was drawn anew gets its menus, marks and choice back

document.addEventListener("htmx:load", (event) => {
  if (!flow()) return;
  begin();
  if (event.target.matches?.("#menus")) fill(document, true);
  else fill(event.target);
  showPicked();
  mark();
});
// the row of the strip that the address names is in sight when the page opens
let inSight = "";
function bringIntoSight() {
  const strip = wanted();
  if (!strip || strip === inSight) return;
  inSight = strip;
  document.getElementById(`strip-${strip}`)?.scrollIntoView({ block: "nearest" });
}
document.addEventListener("htmx:afterSettle", ({ target }) => {
  if (target.id === "workspace" && flow()) bringIntoSight();
});
if (flow()) {
  begin();
  fill(document);
  showPicked();
  mark();
  bringIntoSight();
  drawMap(); // the first was drawn before its width was known
}
