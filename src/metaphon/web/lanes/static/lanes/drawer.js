// The drawer of lanes beneath a workspace: opened by W or its handle, it follows the strip that is open above it.

import { chosenStrips } from "../shell/choice.js";
import { player } from "../listen/player.js";
import "./lane.js";

const drawer = document.getElementById("lanes");
const body = document.getElementById("lanes-body");
const handle = document.getElementById("lanes-handle");
const inField = () => Boolean(document.getElementById("field-lanes"));
const opened = () => localStorage.getItem("lanes") === "open" && !inField();
const openStrip = () => document.querySelector("#workspace [data-open]")?.dataset.open;
let strip = "";

function load(wanted = strip) {
  strip = wanted;
  const tools = body.querySelector(".lane-tools");
  const asked = new URLSearchParams(tools?.dataset.query ?? "wave=1");
  if (strip && strip !== asked.get("strip")) asked.delete("parameter");
  if (strip) asked.set("strip", strip);
  htmx.ajax("GET", `${drawer.dataset.lanes}?${asked}`, {
    source: body,
    target: body,
    swap: "innerHTML",
  });
}

function show() {
  const open = opened();
  drawer.hidden = !open;
  handle.hidden = inField();
  handle.setAttribute("aria-expanded", String(open));
  if (!open) body.replaceChildren();
  else if (!body.firstElementChild) load(openStrip() ?? chosenStrips()[0] ?? strip);
}

function flip() {
  localStorage.setItem("lanes", opened() ? "closed" : "open");
  show();
}

handle.onclick = flip;
document.addEventListener("keydown", (event) => {
  if (event.key !== "w" || event.ctrlKey || event.metaKey || event.altKey || inField()) return;
  if (!event.target.matches?.("input:not([type=checkbox]), select, textarea")) flip();
});
document.addEventListener("htmx:afterSettle", ({ target }) => {
  if (drawer.contains(target)) return;
  show();
  const open = openStrip();
  if (open && open !== strip && opened()) load(open);
});
for (const name of ["mix-edited", "mix-changed"])
  document.addEventListener(name, () => opened() && load());
document.addEventListener("change", ({ target }) => {
  if (target.matches?.("#lanes [name=strip]")) strip = target.value;
});
// a press on the waveform goes there
body.addEventListener("click", ({ target, clientX }) => {
  const wave = target.closest(".wave");
  if (!wave) return;
  const box = wave.getBoundingClientRect();
  player.jump(((clientX - box.left) / box.width) * player.frames());
});
show();
