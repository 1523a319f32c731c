// Width: what a control would make of the picture is drawn while it is dragged.

import { commandOf, typed } from "../shell/command.js";

const DRAWN_MS = 250; // from one picture that is asked for to the next
let asked = null;

function drawTried() {
  const board = document.getElementById("width");
  const command = asked;
  if (!board || !command) return;
  htmx
    .ajax(
      "GET",
      `${board.dataset.picture}&command=${encodeURIComponent(JSON.stringify(command))}`,
      {
        source: "#width-picture",
        target: "#width-picture",
        swap: "outerHTML",
      },
    )
    .finally(() => {
      if (asked === command) asked = null;
      else setTimeout(drawTried, DRAWN_MS);
    });
}

document.addEventListener("dragging", ({ target }) => {
  if (!target.closest?.("#width") || !target.dataset.set) return;
  const around = { chosen: [], groups: false, within: false };
  const idle = asked === null;
  asked = commandOf(target.dataset, typed(target.value), around, {});
  if (idle) setTimeout(drawTried, DRAWN_MS);
});
