// What moves, over time, where no source is chosen: the azimuth of each as a line, its height as another.

import { make, wrap } from "../shell/drawing.js";
import { player } from "../listen/player.js";
import { field, moves } from "./state.js";

const WIDE = 1000;

// A line through [time, angle] points, broken where it goes round the back.
export function lineOf(points, length, most) {
  let before = null;
  const held = [[0, points[0][1]], ...points, [length, points.at(-1)[1]]];
  return held
    .map(([time, angle]) => {
      const breaks = before === null || Math.abs(angle - before) > most;
      before = angle;
      return `${breaks ? "M" : "L"}${((time / length) * WIDE).toFixed(1)} ${(-angle / most).toFixed(3)}`;
    })
    .join("");
}

export function drawOverview(box, choose) {
  const moving = field.objects.filter(moves);
  if (!moving.length) {
    const hint = "Nothing moves yet; choose a source to draw its automation.";
    box.replaceChildren(
      Object.assign(document.createElement("p"), { className: "quiet mb-0", textContent: hint }),
    );
    return;
  }
  const ends = moving.map(({ path }) => path.at(-1)[0]);
  const length = Math.max(player.frames ? player.frames() / player.rate : 0, ...ends, 1);
  const head = document.createElement("p");
  head.className = "quiet mb-1";
  head.textContent = `What moves: ${moving.length} of ${field.objects.length}. Azimuth solid, elevation dashed; left and up are above.`;
  const rows = moving.map((object) => {
    const row = document.createElement("button");
    row.className = "moving-row";
    row.title = `${object.name}: show its automation`;
    const svg = make("svg", {
      viewBox: `0 -1.05 ${WIDE} 2.1`,
      preserveAspectRatio: "none",
      "aria-hidden": "true",
    });
    const azimuth = object.path.map(([time, a]) => [time, wrap(a)]);
    const elevation = object.path.map(([time, , e]) => [time, e]);
    svg.append(
      make("path", { class: "middle", d: `M0 0H${WIDE}` }),
      make("path", { class: "height", d: lineOf(elevation, length, 90) }),
      make("path", { class: "turn", d: lineOf(azimuth, length, 180) }),
      make("path", { class: "now", d: "M0 -1V1" }),
    );
    row.append(Object.assign(document.createElement("span"), { textContent: object.name }), svg);
    row.onclick = () => choose(object.id);
    return row;
  });
  box.replaceChildren(head, ...rows);
  box.dataset.overview = length;
}

// The playhead in each row.
export function moveOn(box) {
  const x = (player.position / player.rate / +box.dataset.overview) * WIDE;
  box
    .querySelectorAll(".moving-row .now")
    .forEach((line) => line.setAttribute("transform", `translate(${x.toFixed(1)} 0)`));
}
