// The level of every track and bus while it plays, beside its row in the table and in its box on the map. A level is a
// length, set only where it has changed by what can be seen, so that 128 of them cost little.

import { inStep } from "../listen/bar.js";
import { player } from "../listen/player.js";

const FLOOR_DB = -60;
const SEEN = 0.012; // of the whole length

// How long a level is drawn, 0 to 1, in steps that can be told apart.
const lengthOf = (db) =>
  Math.round(Math.min(Math.max((db - FLOOR_DB) / -FLOOR_DB, 0), 1) / SEEN) * SEEN;

let shown = new Map(); // id: its elements that are in sight, and the length they have
let found = false; // whether the elements that there are have been looked for
let last = null;
let turn = 0;

// Rows that are scrolled out of sight cost nothing.
const sight = new IntersectionObserver((changes) => {
  for (const { target, isIntersecting } of changes) {
    const one = shown.get(target.dataset.liveOf);
    if (!one) continue;
    if (isIntersecting) one.elements.add(target);
    else one.elements.delete(target);
    one.length = null;
  }
});
function find() {
  sight.disconnect();
  shown = new Map();
  for (const element of document.querySelectorAll(".flow [data-live-of]")) {
    shown.set(element.dataset.liveOf, { elements: new Set(), length: null });
    sight.observe(element);
  }
}
function set(one, length) {
  if (one.length === length) return;
  one.length = length;
  for (const element of one.elements) element.style.transform = `scaleX(${length})`;
}

function draw() {
  if (!document.querySelector(".flow") || turn++ % 2) return;
  if (!found) find();
  found = true;
  const levels = player.playing ? player.current?.readings.strips : null;
  if (levels === last) return;
  last = levels;
  for (const [id, one] of shown) set(one, levels ? lengthOf(levels[id] ?? FLOOR_DB) : 0);
}
inStep(draw);
player.addEventListener("transport", () => {
  if (!player.playing) for (const one of shown.values()) set(one, 0);
});
document.addEventListener("htmx:load", () => (found = false));
