// The level of every track and bus while it plays, beside its row in the table and in its box on the map. A level is a
// length, set only where it has changed by what can be seen, so that 128 of them cost little.

import { inStep } from "../listen/bar.js";
import { player } from "../listen/player.js";

const FLOOR_DB = -60;
const SEEN = 0.012; // of the whole length

// How long a level is drawn, 0 to 1, in steps that can be told apart.
export const lengthOf = (db) =>
  Math.round(Math.min(Math.max((db - FLOOR_DB) / -FLOOR_DB, 0), 1) / SEEN) * SEEN;

let shown = new Map(); // id: its elements and the length they have
let drawing = null; // what the elements were found in
let last = null;
let turn = 0;

function find() {
  shown = new Map();
  for (const element of document.querySelectorAll(".flow [data-live-of]")) {
    const one = shown.get(element.dataset.liveOf) ?? { elements: [], length: 0 };
    one.elements.push(element);
    shown.set(element.dataset.liveOf, one);
  }
}
function set(one, length) {
  if (one.length === length) return;
  one.length = length;
  for (const element of one.elements) element.style.transform = `scaleX(${length})`;
}

function draw() {
  if (!document.querySelector(".flow") || turn++ % 2) return;
  if (!drawing) {
    find();
    drawing = true;
  }
  const levels = player.playing ? player.current?.readings.strips : null;
  if (levels === last) return;
  last = levels;
  for (const [id, one] of shown) set(one, levels ? lengthOf(levels[id] ?? FLOOR_DB) : 0);
}
inStep(draw);
player.addEventListener("transport", () => {
  if (!player.playing) for (const one of shown.values()) set(one, 0);
});
document.addEventListener("htmx:load", () => (drawing = null));
