// The perspective view: the listener, the loudspeakers and the sources in space, turned by hand.

import { boxes, NAMED_UP_TO, setNames } from "./labels.js";
import { field, find, levelOf, make, moves, placeOf, radians, vector } from "./state.js";

const HOME = [-28, 24];
const SIZE = 94;
let [turn, tilt] = HOME;
let held = null;
const shown = () => field.board && !find("#field-space").hasAttribute("hidden"); // drawings have no `hidden` of their own

// x right, y front, z up, seen from behind and above; nearer things are drawn larger.
function seen([x, y, z]) {
  const [a, b] = [radians(turn), radians(tilt)];
  const [right, away] = [x * Math.cos(a) + y * Math.sin(a), -x * Math.sin(a) + y * Math.cos(a)];
  const [up, deep] = [z * Math.cos(b) + away * Math.sin(b), away * Math.cos(b) - z * Math.sin(b)];
  const scale = 3.2 / (3.2 + deep);
  return [right * SIZE * scale, -up * SIZE * scale, scale];
}
const line = (points) =>
  points
    .map(
      (point, i) =>
        `${i ? "L" : "M"}${seen(point)
          .slice(0, 2)
          .map((v) => v.toFixed(1))
          .join(" ")}`,
    )
    .join("");
const round = (place) => line(Array.from({ length: 73 }, (_, i) => place(radians(i * 5))));

export function drawSpace() {
  if (!shown()) return;
  const svg = find("#field-space");
  const parts = [
    make("path", { class: "floor", d: round((t) => [Math.sin(t), Math.cos(t), 0]) }),
    make("path", { class: "frame", d: round((t) => [0, Math.cos(t), Math.sin(t)]) }),
    make("path", { class: "frame", d: round((t) => [Math.cos(t), 0, Math.sin(t)]) }),
    make("path", {
      class: "frame",
      d: line([
        [0, 0.9, 0],
        [0, 1.25, 0],
      ]),
    }),
    label(seen([0, 1.4, 0]), "front"),
    make("path", { class: "head", d: headPath() }),
  ];
  const things = JSON.parse(field.board.dataset.vectors).map(({ label: name, vector: place }) => ({
    place,
    name,
    kind: "speaker",
  }));
  for (const object of field.objects) {
    if (object.mode !== "object") continue;
    const [azimuth, elevation, distance] = placeOf(object);
    things.push({
      place: vector(azimuth, elevation).map((v) => v * Math.min(distance, 1.6)),
      object,
      kind: "object",
    });
    if (moves(object))
      parts.push(
        make("path", {
          class: `path${field.picked.has(object.id) ? " chosen" : ""}`,
          d: line(pathOf(object)),
        }),
      );
  }
  const named = things.filter(({ kind }) => kind === "object").length <= NAMED_UP_TO;
  const [tags, names] = [[], []]; // names lie over all else
  things.sort((one, other) => seen(one.place)[2] - seen(other.place)[2]); // far ones first
  for (const { place, name, object, kind } of things) {
    const [x, y, scale] = seen(place);
    parts.push(make("path", { class: "stem", d: line([place, [place[0], place[1], 0]]) }));
    if (kind === "speaker") {
      const size = 3.4 * scale;
      const box = make("path", {
        class: "speaker",
        d: `M${x - size} ${y - size}h${2 * size}v${2 * size}h${-2 * size}Z`,
      });
      parts.push(box, label([x, y + size + 6.5], name));
      continue;
    }
    const chosen = field.picked.has(object.id);
    const level = levelOf(object);
    const how = {
      class: `object${chosen ? " chosen" : ""}`,
      "data-space-pick": object.id,
      transform: `translate(${x.toFixed(1)} ${y.toFixed(1)})`,
    };
    const group = make("g", how);
    if (level !== undefined)
      group.append(
        make("circle", {
          class: "level",
          r: ((5 + Math.max(0, (level + 60) / 60) * 9) * scale).toFixed(1),
        }),
      );
    group.append(make("circle", { class: "body", r: (5 * scale).toFixed(1) }));
    const number = label([0, 2.2, 1], object.number, "middle");
    number.setAttribute("class", "number");
    group.append(number);
    if (named || chosen) {
      const tag = (object.spaceTag ??= { name: object.name, number: object.number });
      Object.assign(tag, { at: [x, y], label: label([0, 0], object.name) });
      tag.label.setAttribute("class", "label");
      names.push(make("g", how, tag.label));
      tags.push(tag);
    }
    parts.push(group);
  }
  svg.replaceChildren(...parts, ...names);
  setNames(tags, boxes(svg.querySelectorAll(":scope > text, .speaker")));
}

function label([x, y], text, anchor = "middle") {
  const element = make("text", {
    x: x.toFixed?.(1) ?? x,
    y: y.toFixed?.(1) ?? y,
    "text-anchor": anchor,
  });
  element.textContent = text;
  return element;
}
const headPath = () =>
  round((t) => [0.1 * Math.sin(t), 0.12 * Math.cos(t), 0]) +
  line([
    [-0.03, 0.12, 0],
    [0, 0.17, 0],
    [0.03, 0.12, 0],
  ]);
function pathOf(object) {
  const points = [];
  for (let i = 1; i < object.path.length; i++) {
    const [, a0, e0, d0] = object.path[i - 1];
    const [, a1, e1, d1] = object.path[i];
    for (let k = i === 1 ? 0 : 1; k <= 6; k++) {
      const part = k / 6;
      points.push(
        vector(a0 + (a1 - a0) * part, e0 + (e1 - e0) * part).map(
          (v) => v * (d0 + (d1 - d0) * part),
        ),
      );
    }
  }
  return points;
}

export function turning(choose) {
  document.addEventListener("pointerdown", (event) => {
    const svg = field.board && event.target.closest?.("#field-space");
    if (!svg) return;
    const object = event.target.closest("[data-space-pick]");
    if (object) return choose(+object.dataset.spacePick, event.shiftKey || event.ctrlKey);
    held = [event.clientX, event.clientY, turn, tilt];
    svg.setPointerCapture(event.pointerId);
  });
  document.addEventListener("pointermove", (event) => {
    if (!held) return;
    turn = held[2] + (event.clientX - held[0]) / 3;
    tilt = Math.max(-89, Math.min(89, held[3] + (event.clientY - held[1]) / 3));
    drawSpace();
  });
  for (const end of ["pointerup", "pointercancel"])
    document.addEventListener(end, () => (held = null));
  document.addEventListener("dblclick", (event) => {
    if (!event.target.closest?.("#field-space")) return;
    [turn, tilt] = HOME;
    drawSpace();
  });
  document.addEventListener("keydown", (event) => {
    if (event.target.id !== "field-space") return;
    const step = {
      ArrowLeft: [-5, 0],
      ArrowRight: [5, 0],
      ArrowUp: [0, 5],
      ArrowDown: [0, -5],
      Home: null,
    }[event.key];
    if (step === undefined) return;
    [turn, tilt] = step ? [turn + step[0], Math.max(-89, Math.min(89, tilt + step[1]))] : HOME;
    event.preventDefault();
    drawSpace();
  });
}
