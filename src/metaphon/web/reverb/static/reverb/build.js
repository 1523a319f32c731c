// Source and microphones are put in their place in the plan and in the section of a room; the fields beside it follow,
// and what is typed there is drawn.

import { typed } from "../shell/command.js";

const STEP_M = 0.1;
let drag = null;

const fieldOf = (name) => document.querySelector(`#space [name="${CSS.escape(name)}"]`);
const valueOf = (name) => {
  const number = typed(fieldOf(name).value);
  return typeof number === "number" ? number : 0;
};
const put = (name, metres) => (fieldOf(name).value = String(Math.round(metres * 100) / 100));
// what has changed is drawn anew by the form itself
const done = (name) => fieldOf(name).dispatchEvent(new Event("change", { bubbles: true }));

// To the rear the way grows; up the height does.
function move(mover, from, right, down) {
  const rear = mover.dataset.axes === "y" ? down : right;
  put(mover.dataset.along, from.along + rear);
  if (mover.dataset.axes === "xy") put(mover.dataset.up, from.up - down);
}
const placeOf = (mover) => ({
  along: valueOf(mover.dataset.along),
  up: valueOf(mover.dataset.up),
});

document.addEventListener("pointerdown", (event) => {
  const mover = event.button === 0 && event.target.closest?.("[data-builds] .mover");
  if (!mover) return;
  const drawing = mover.ownerSVGElement;
  const pixels = drawing.getScreenCTM().a * +drawing.dataset.scale; // a metre
  const [, x, y] = mover.getAttribute("transform").match(/translate\(([-\d.]+) ([-\d.]+)\)/);
  drag = {
    mover,
    pixels,
    start: [event.clientX, event.clientY],
    from: placeOf(mover),
    x: +x,
    y: +y,
  };
  drawing.setPointerCapture(event.pointerId);
});
document.addEventListener("pointermove", (event) => {
  if (!drag) return;
  const { mover, pixels, start, from, x, y } = drag;
  const [right, down] = [
    mover.dataset.axes === "y" ? 0 : (event.clientX - start[0]) / pixels,
    (event.clientY - start[1]) / pixels,
  ];
  drag.moved = true;
  move(mover, from, right, down);
  const scale = +mover.ownerSVGElement.dataset.scale;
  mover.setAttribute("transform", `translate(${x + right * scale} ${y + down * scale})`);
});
for (const end of ["pointerup", "pointercancel"])
  document.addEventListener(end, () => {
    const { mover, moved } = drag ?? {};
    drag = null;
    if (moved) done(mover.dataset.along);
  });
document.addEventListener("keydown", (event) => {
  const mover = event.target.closest?.("[data-builds] .mover");
  const steps = { ArrowUp: [0, -1], ArrowDown: [0, 1], ArrowLeft: [-1, 0], ArrowRight: [1, 0] };
  if (!mover || !steps[event.key]) return;
  event.preventDefault();
  const size = STEP_M * (event.shiftKey ? 10 : 1);
  const [right, down] = steps[event.key];
  move(mover, placeOf(mover), right * size, down * size);
  kept = [mover.ownerSVGElement.ariaLabel, mover.dataset.along];
  done(mover.dataset.along);
});
// the keys stay with what was moved, though it is drawn anew
let kept = null;
document.addEventListener("htmx:afterSettle", ({ target }) => {
  if (target.id !== "plan" || !kept) return;
  const [drawing, along] = kept;
  document
    .querySelector(`[data-builds] svg[aria-label="${drawing}"] .mover[data-along="${along}"]`)
    ?.focus();
  kept = null;
});
