// Whether a mouse button, a finger or the key of a button is down, and what waits until it is let go.

let pressed = false;
const waiting = [];

export function whenLetGo(act) {
  if (pressed) waiting.push(act);
  else act();
}

function press() {
  pressed = true;
}
function letGo() {
  if (!pressed) return;
  pressed = false;
  // after the click that follows
  setTimeout(() => {
    while (waiting.length && !pressed) waiting.shift()();
  });
}

const capture = { capture: true };
addEventListener("pointerdown", press, capture);
for (const name of ["pointerup", "pointercancel"]) addEventListener(name, letGo, capture);
// let go outside of the window; not captured, since a press takes the focus from another field
addEventListener("blur", letGo);
addEventListener("pointermove", (event) => event.buttons === 0 && letGo(), capture);
addEventListener(
  "keydown",
  (event) => event.key === " " && event.target.matches?.("button, summary") && press(),
  capture,
);
addEventListener("keyup", (event) => event.key === " " && letGo(), capture);
