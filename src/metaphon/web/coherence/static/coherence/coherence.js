// The form of the pair: earlier and later, and back to the mend that was found.

import { player } from "../listen/player.js";

const form = () => document.getElementById("pair-form");

function go(change) {
  for (const [name, value] of Object.entries(change)) form().elements[name].value = value;
  form().dispatchEvent(new Event("change", { bubbles: true }));
}

document.addEventListener("click", ({ target }) => {
  const button = target.closest?.(".coherence :is([data-at], [data-found], [data-rotation])");
  if (!button) return;
  if (button.dataset.at !== undefined) go({ at_s: button.dataset.at });
  else if (button.dataset.rotation) go(JSON.parse(button.dataset.rotation));
  else go({ delay_ms: "", rotation_hz: "" });
});

document.addEventListener(
  "change",
  ({ target }) => {
    // another recording is looked at from its own loudest span, with its own mend
    if (!target.matches?.("#pair-form select:is([name=first], [name=other], [name$=side])")) return;
    for (const name of ["from_s", "at_s", "delay_ms", "rotation_hz"])
      form().elements[name].value = "";
    form().elements.inverted.checked = false;
  },
  true,
);

document.addEventListener("keydown", (event) => {
  if (event.target.matches?.("input, select, textarea") || event.ctrlKey || event.metaKey) return;
  const step = { ",": 0, ".": 1 }[event.key];
  const button = document.querySelectorAll(".coherence [data-at]")[step];
  if (button) button.click();
});

// The cursor of the curves: one place on all of them, its values said above.
document.addEventListener("pointermove", ({ target, clientX }) => {
  const svg = target.closest?.(".coherence .curve svg");
  if (!svg) return;
  const board = svg.closest("[data-figures]");
  const { hz, db, deg, ms, rate } = JSON.parse(board.dataset.figures);
  const { a, e } = svg.getScreenCTM();
  const x = Math.min(Math.max((clientX - e) / a, 0), 800);
  const at = Math.round((x / 800) * (hz.length - 1));
  for (const line of board.querySelectorAll("line.cursor")) {
    line.setAttribute("x1", x);
    line.setAttribute("x2", x);
  }
  const said = [
    `${hz[at].toFixed(hz[at] < 100 ? 1 : 0)} Hz`,
    `${db[at].toFixed(2)} dB`,
    `${deg[at].toFixed(1)}°`,
    `${ms[at].toFixed(3)} ms`,
    `${((ms[at] * rate) / 1000).toFixed(1)} samples`,
  ];
  board.querySelector(".reading").textContent = said.join("  ").replaceAll("-", "−");
});

// A press on the level over time goes there.
document.addEventListener("click", ({ target, clientX }) => {
  const svg = target.closest?.(".coherence .time");
  if (!svg) return;
  const { a, e } = svg.getScreenCTM();
  const along = Math.min(Math.max((clientX - e) / a / 800, 0), 1);
  player.jump(along * +svg.dataset.length * player.rate);
});
