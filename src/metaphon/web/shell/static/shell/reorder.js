// Things put in order by dragging them, or with Alt and the arrow keys: tracks, buses, processors. What can be moved
// says how: data-reorder is its command without `to`, data-among names those that it is one of, data-place where it is.

import { send } from "./edit.js";

const THRESHOLD_PX = 5;
let drag = null;

const among = (item) =>
  [
    ...document.querySelectorAll(`[data-reorder][data-among="${CSS.escape(item.dataset.among)}"]`),
  ].filter((one) => one.checkVisibility());
const placeOf = (item) => +item.dataset.place;
const runsDown = (items) =>
  items.length < 2 ||
  items[1].getBoundingClientRect().top > items[0].getBoundingClientRect().top + 4;

let focusAfter = null; // which one has the keys once it is drawn anew
function move(item, to) {
  if (to === placeOf(item)) return;
  focusAfter = { among: item.dataset.among, place: to };
  send({ ...JSON.parse(item.dataset.reorder), to }, item, `move ${item.dataset.among}`);
}
document.addEventListener("htmx:afterSettle", () => {
  if (!focusAfter || document.activeElement !== document.body) return;
  const { among: kind, place } = focusAfter;
  focusAfter = null;
  const item = document.querySelector(
    `[data-reorder][data-among="${CSS.escape(kind)}"][data-place="${place}"]`,
  );
  const held = item?.matches("button, [tabindex]") ? item : item?.querySelector("button, a");
  held?.focus({ preventScroll: true });
});

document.addEventListener("pointerdown", (event) => {
  const grip = event.button === 0 && event.target.closest?.("[data-grip]");
  const item = grip && grip.closest("[data-reorder]");
  if (item) drag = { item, x: event.clientX, y: event.clientY, moving: false };
});
function unmark() {
  document
    .querySelectorAll(".drop-before, .drop-after")
    .forEach((one) => one.classList.remove("drop-before", "drop-after"));
}
document.addEventListener("pointermove", (event) => {
  if (!drag) return;
  const { item, x, y } = drag;
  if (!drag.moving && Math.hypot(event.clientX - x, event.clientY - y) < THRESHOLD_PX) return;
  drag.moving = true;
  event.preventDefault();
  getSelection()?.removeAllRanges();
  const items = among(item);
  const down = runsDown(items);
  const away = (one) => {
    const box = one.getBoundingClientRect();
    return Math.hypot(
      down ? 0 : event.clientX - (box.left + box.width / 2),
      event.clientY - (box.top + box.height / 2),
    );
  };
  const near = items.reduce((best, one) => (away(one) < away(best) ? one : best));
  const box = near.getBoundingClientRect();
  const after = down
    ? event.clientY > box.top + box.height / 2
    : event.clientX > box.left + box.width / 2;
  unmark();
  item.classList.add("dragging");
  near.classList.add(after ? "drop-after" : "drop-before");
  drag.to = placeOf(near) + after;
});
function end(event) {
  if (!drag) return;
  const { item, moving, to } = drag;
  drag = null;
  unmark();
  item.classList.remove("dragging");
  if (!moving || event.type !== "pointerup") return;
  // the press that ends a drag is no press on what it is over
  const swallow = (click) => click.stopPropagation();
  addEventListener("click", swallow, { capture: true, once: true });
  setTimeout(() => removeEventListener("click", swallow, { capture: true }));
  move(item, to > placeOf(item) ? to - 1 : to);
}
document.addEventListener("pointerup", end);
document.addEventListener("pointercancel", end);
document.addEventListener("keydown", (event) => {
  if (event.key === "Escape" && drag) return end(event);
  const step = { ArrowUp: -1, ArrowLeft: -1, ArrowDown: 1, ArrowRight: 1 }[event.key];
  const item = event.altKey && step && event.target.closest?.("[data-reorder]");
  if (!item || event.target.matches("input, select, textarea")) return;
  event.preventDefault();
  const items = among(item);
  const next = items[items.indexOf(item) + step];
  if (next) move(item, placeOf(next));
});
