// Values that a lane moves: each of their controls says so, and shows the value at this moment. A new value trims the
// whole lane by the difference; a press on the mark writes over: the lane goes, and the value stays.

import { player } from "../listen/player.js";
import { send } from "./edit.js";
import { fetchText } from "./fetch_text.js";
import { at, isMoved, moved } from "./moved.js";

const MINUS = "\u2212";
const SETTLE_MS = 80;
const source = document.getElementById("lanes").dataset.values;
const dragged = new Set();

const controls = (key) => document.querySelectorAll(`input.number[data-set="${CSS.escape(key)}"]`);

const isUnsent = (input) => input.value !== (input.dataset.sent ?? input.defaultValue);

function show(box, input, value) {
  const inHand = document.activeElement === input && (player.playing || isUnsent(input));
  if (inHand || dragged.has(box)) return;
  const text = value.toFixed(+box.dataset.digits);
  input.value = +text === 0 ? text.replace("-", "") : text.replace("-", MINUS);
  input.dataset.sent = input.value;
  box.dispatchEvent(new CustomEvent("redraw", { bubbles: true }));
}

function mark(box, input) {
  if (box.classList.contains("automated")) return;
  box.classList.add("automated");
  const title =
    "Moved by automation: a new value trims the whole lane. Press to write over: the lane goes, this value stays.";
  const over = Object.assign(document.createElement("button"), {
    type: "button",
    className: "over",
    title,
    disabled: input.disabled,
  });
  over.setAttribute("aria-label", `Write over the automation of ${input.ariaLabel}`);
  over.innerHTML =
    '<svg viewBox="0 0 12 8" aria-hidden="true"><path d="M1 4C2 0 5 0 6 4S10 8 11 4"/></svg>';
  box.querySelector(".line").prepend(over);
}

function draw() {
  for (const box of document.querySelectorAll(".value.automated"))
    if (!moved.has(box.querySelector("input").dataset.set)) {
      box.classList.remove("automated");
      box.querySelector(".over").remove();
    }
  for (const [key, value] of moved)
    for (const input of controls(key)) {
      const box = input.closest(".value");
      mark(box, input);
      show(box, input, value);
    }
}

function take(values) {
  moved.clear();
  for (const [key, value] of Object.entries(values)) moved.set(key, value);
  draw();
}

let asked = 0;
async function ask() {
  const own = ++asked;
  const text = await fetchText(`${source}?at=${at()}`);
  if (text !== null && own === asked) take(JSON.parse(text));
}

let settling;
const askSoon = () => {
  draw(); // what is drawn anew is marked at once
  clearTimeout(settling);
  settling = setTimeout(ask, SETTLE_MS);
};

document.addEventListener("click", ({ target }) => {
  const over = target.closest?.(".value .over");
  if (!over) return;
  const input = over.closest(".value").querySelector("input");
  const [strip, path] = input.dataset.set.split(" ");
  if (!isMoved(strip, path)) return;
  const value = moved.get(input.dataset.set);
  send({ kind: "set", strips: [strip], path, value, at_s: at(), write_over: true }, input);
});
document.addEventListener("dragging", ({ target }) => dragged.add(target.closest(".value")));
for (const name of ["commit", "released"])
  document.addEventListener(name, ({ target }) => dragged.delete(target.closest(".value")));
player.addEventListener("reading", ({ detail }) => {
  if (detail.readings.values) take(detail.readings.values);
});
player.addEventListener("transport", () => !player.playing && askSoon());
for (const name of ["htmx:afterSettle", "mix-edited", "mix-changed"])
  document.addEventListener(name, askSoon);
ask();
