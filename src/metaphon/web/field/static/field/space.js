// The perspective view: the listener, the loudspeakers and the sources in space, turned by hand.

import { make } from "../shell/drawing.js";
import { boxes, NAMED_UP_TO, setNames } from "./labels.js";
import { degrees, field, find, levelOf, moves, placeOf, radians, vector } from "./state.js";

const HOME = [-28, 24];
const SIZE = 94;
const EYE = 3.2; // how far the eye is from the listener
const FARTHEST = 1.6; // what is beyond is drawn there
let [turn, tilt] = HOME;
let held = null;
const shown = () => field.board && !find("#field-space").hasAttribute("hidden"); // drawings have no `hidden` of their own

// x right, y front, z up, seen from behind and above; nearer things are drawn larger.
function seen([x, y, z]) {
  const [a, b] = [radians(turn), radians(tilt)];
  const [right, away] = [x * Math.cos(a) + y * Math.sin(a), -x * Math.sin(a) + y * Math.cos(a)];
  const [up, deep] = [z * Math.cos(b) + away * Math.sin(b), away * Math.cos(b) - z * Math.sin(b)];
  const scale = EYE / (EYE + deep);
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
const circle = (place) => Array.from({ length: 73 }, (_, i) => place(radians(i * 5)));
const round = (place) => line(circle(place));
const bounds = [EYE / 4.25, EYE / 2.15]; // scales of what is farthest and nearest on the sphere
// How strongly something is drawn: what is behind fainter than what is in front.
const weight = (scale) =>
  0.3 + 0.7 * Math.min(Math.max((scale - bounds[0]) / (bounds[1] - bounds[0]), 0), 1);
// A circle in pieces, each as strong as it is near.
function hoop(place) {
  const points = circle(place);
  return Array.from({ length: 12 }, (_, n) => {
    const part = points.slice(n * 6, n * 6 + 7);
    const near = weight(seen(part[3])[2]);
    return make("path", {
      class: "frame",
      d: line(part),
      opacity: near.toFixed(2),
      "stroke-width": (0.3 + 0.6 * near).toFixed(2),
    });
  });
}
// The floor at the height of the ears: a disc, rings half a radius apart, and lines to front, left, rear and right.
function floor() {
  const at = (radius) => (t) => [radius * Math.sin(t), radius * Math.cos(t), 0];
  return [
    make("path", { class: "floor", d: `${round(at(1))}Z` }),
    ...[0.25, 0.5, 0.75].map((radius) => make("path", { class: "ring", d: round(at(radius)) })),
    ...Array.from({ length: 8 }, (_, n) =>
      make("path", { class: "ring", d: line([at(0.12)(radians(n * 45)), at(1)(radians(n * 45))]) }),
    ),
  ];
}

export function drawSpace() {
  if (!shown()) return;
  const svg = find("#field-space");
  const parts = [
    ...floor(),
    ...hoop((t) => [Math.sin(t), Math.cos(t), 0]),
    ...hoop((t) => [0, Math.cos(t), Math.sin(t)]),
    ...hoop((t) => [Math.cos(t), 0, Math.sin(t)]),
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
      place: vector(azimuth, elevation).map((v) => v * Math.min(distance, FARTHEST)),
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
    const strong = weight(scale).toFixed(2);
    const [footX, footY, footScale] = seen([place[0], place[1], 0]);
    parts.push(
      make("path", {
        class: "stem",
        d: line([place, [place[0], place[1], 0]]),
        opacity: strong,
        "stroke-width": (0.9 * scale).toFixed(2),
      }),
      make("ellipse", {
        class: "foot",
        cx: footX.toFixed(1),
        cy: footY.toFixed(1),
        rx: (2.4 * footScale).toFixed(1),
        ry: (2.4 * footScale * Math.abs(Math.sin(radians(tilt)))).toFixed(1),
        opacity: strong,
      }),
    );
    if (kind === "speaker") {
      const size = 3.4 * scale;
      const box = make("path", {
        class: "speaker",
        opacity: strong,
        d: `M${x - size} ${y - size}h${2 * size}v${2 * size}h${-2 * size}Z`,
      });
      const tag = label([x, y + size + 6.5], name);
      tag.setAttribute("opacity", Math.max(strong, 0.6));
      parts.push(box, tag);
      continue;
    }
    const chosen = field.picked.has(object.id);
    const level = levelOf(object);
    const how = {
      class: `object${chosen ? " chosen" : ""}`,
      "data-space-pick": object.id,
      opacity: chosen ? 1 : Math.max(strong, 0.6),
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

// What lies under the pointer on a sphere round the listener: on its near or its far side, as `drag.near` says. Past the
// rim a source goes over to the other side.
function onSphere(event, drag) {
  const svg = find("#field-space");
  const point = new DOMPoint(event.clientX, event.clientY).matrixTransform(
    svg.getScreenCTM().inverse(),
  );
  const [u, v] = [point.x / SIZE / EYE, -point.y / SIZE / EYE];
  const steep = 1 + u * u + v * v;
  const inside = EYE * EYE - steep * (EYE * EYE - drag.radius * drag.radius);
  if (inside < 0 && !drag.beyond) drag.near = !drag.near;
  drag.beyond = inside < 0;
  const root = Math.sqrt(Math.max(inside, 0));
  const along = (EYE + (drag.near ? -root : root)) / steep;
  const [right, up, deep] = [u * along, v * along, along - EYE];
  const [a, b] = [radians(turn), radians(tilt)];
  const away = up * Math.sin(b) + deep * Math.cos(b);
  const z = up * Math.cos(b) - deep * Math.sin(b);
  const [x, y] = [
    right * Math.cos(a) - away * Math.sin(a),
    right * Math.sin(a) + away * Math.cos(a),
  ];
  return [degrees(Math.atan2(-x, y)), degrees(Math.atan2(z, Math.hypot(x, y)))];
}

// Dragged along its sphere, or with Alt nearer and farther: half as far every 60 pixels down.
export const SPACE = {
  drawing: "#field-space",
  mark: "[data-space-pick]",
  idOf: (mark) => mark.dataset.spacePick,
  begin: ([azimuth, elevation, distance]) => {
    const radius = Math.max(Math.min(distance, FARTHEST), 0.05);
    const [, , scale] = seen(vector(azimuth, elevation).map((part) => part * radius));
    return { radius, near: scale >= 1, beyond: false };
  },
  at: (event, drag) => {
    const [azimuth, elevation] = drag.from.get(drag.main.id);
    if (event.altKey) return [azimuth, elevation, 2 ** ((drag.start[1] - event.clientY) / 60)];
    return onSphere(event, drag);
  },
};

export function turning() {
  document.addEventListener("pointerdown", (event) => {
    const svg = field.board && event.target.closest?.("#field-space");
    if (!svg || event.target.closest("[data-space-pick]")) return;
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
