// The whole-sphere chart with plan and side: drawing sources, and dragging them.

import { make, wrap } from "../shell/drawing.js";
import { player } from "../listen/player.js";
import { boxes, clearOfSources, NAMED_UP_TO, setNames } from "./labels.js";
import { send, tryOut } from "../shell/edit.js";
import {
  degrees,
  field,
  find,
  hold,
  levelOf,
  mayEdit,
  moves,
  now,
  placeOf,
  radians,
  vector,
} from "./state.js";

const BODY = 6.2;

let printed = null; // the words that stand on the chart for good; known once it is seen

// The Hammer projection, as the server draws it: 100 units to the unit, y downwards.
export function onChart(azimuth, elevation) {
  const [half, high] = [radians(azimuth) / 2, radians(elevation)];
  const scale = Math.sqrt(1 + Math.cos(high) * Math.cos(half));
  return [(-200 * Math.cos(high) * Math.sin(half)) / scale, (-100 * Math.sin(high)) / scale];
}
export function fromChart(x, y) {
  let [u, v] = [(-x / 100) * Math.SQRT2, (-y / 100) * Math.SQRT2];
  const outside = (u / 4) ** 2 * 2 + (v / 2) ** 2 * 2; // beyond the edge: to the nearest point on it
  if (outside > 0.999) [u, v] = [u / Math.sqrt(outside / 0.999), v / Math.sqrt(outside / 0.999)];
  const z = Math.sqrt(1 - (u / 4) ** 2 - (v / 2) ** 2);
  return [
    degrees(2 * Math.atan2(z * u, 2 * (2 * z * z - 1))),
    degrees(Math.asin(Math.max(-1, Math.min(1, z * v)))),
  ];
}
const atPointer = (event) => {
  const point = new DOMPoint(event.clientX, event.clientY).matrixTransform(
    find("#field-chart").getScreenCTM().inverse(),
  );
  return fromChart(point.x, point.y);
};

export const named = (object) => `${object.number}, ${object.name}`;

export function build() {
  const shown = field.objects.filter((object) => object.mode === "object");
  const many = shown.length > NAMED_UP_TO;
  const held = document.activeElement?.closest?.("#field-chart .object")?.dataset.id;
  find(".objects").replaceChildren(
    ...shown.map((object) => {
      const title = make("title", {});
      title.textContent = `${object.name}${moves(object) ? ", moves by automation" : ""}${object.locked ? ", locked" : ""}`;
      const number = make("text", {
        class: "number",
        "text-anchor": "middle",
        y: many ? 2.2 : 3.4,
      });
      number.textContent = object.number;
      const label = make("text", { class: "label" });
      object.tag = { label, at: [0, 0], name: object.name, number: object.number };
      object.mark = make(
        "g",
        {
          class: "object",
          tabindex: 0,
          role: "button",
          "aria-label": named(object),
          "data-id": object.id,
          "data-colour": object.colour,
        },
        make("ellipse", { class: "spread" }),
        make("circle", { class: "level", r: 0 }),
        make("circle", { class: "body", r: many ? 4.2 : BODY }),
        number,
        label,
        title,
      );
      object.mark.classList.toggle("small", many);
      if (object.locked)
        object.mark.append(
          make("path", {
            class: "lock",
            d: "M-2.2 -9.5H2.2V-6.8H-2.2ZM-1.3 -9.5V-10.6A1.3 1.3 0 0 1 1.3 -10.6V-9.5",
          }),
        );
      return object.mark;
    }),
  );
  find(".paths").replaceChildren(...shown.filter(moves).map(drawPath));
  for (const view of ["#field-plan", "#field-side"]) {
    find(`${view} .marks`).replaceChildren(
      ...shown.map(
        (object) => (
          (object[view] = make("circle", { r: many ? 3 : 4.5, "data-id": object.id })),
          object[view]
        ),
      ),
    );
  }
  drawBeds();
  printed = null;
  if (held) shown.find((object) => object.id === held)?.mark.focus({ preventScroll: true });
}

// Names are as wide as their letters; those of the page's own face may arrive after the first drawing.
document.fonts.ready.then(() => {
  if (!field.board) return;
  for (const object of field.objects) if (object.tag) object.tag.width = 0;
  printed = null;
  if (!find("#field-chart").hasAttribute("hidden")) showNames();
});

// Beds stand on their loudspeakers as diamonds; a scene is a dashed line round the whole chart.
function drawBeds() {
  const inBeds = field.objects.filter((object) => object.mode === "bed");
  find(".beds").replaceChildren(
    ...Object.entries(field.beds).flatMap(([layout, places]) =>
      places.map(([x, y]) =>
        make("path", {
          d: "M0 -6.5L6.5 0L0 6.5L-6.5 0Z",
          transform: `translate(${x} ${y})`,
          "data-layout": layout,
        }),
      ),
    ),
    words(-212, 104, "start", inBeds.length ? `◇ beds: ${listed(inBeds)}` : ""),
  );
  const scenes = field.objects.filter((object) => object.mode === "scene");
  find(".scenes").replaceChildren(
    ...(scenes.length ? [make("ellipse", { rx: 202.5, ry: 102.5 })] : []),
    words(212, 104, "end", scenes.length ? `scene: ${listed(scenes)}` : ""),
  );
}
const listed = (sources) =>
  sources
    .slice(0, 3)
    .map((one) => one.name)
    .join(", ") + (sources.length > 3 ? ` and ${sources.length - 3} more` : "");
function words(x, y, anchor, text) {
  const element = make("text", { x, y, "text-anchor": anchor });
  element.textContent = text;
  return element;
}

function drawPath(object) {
  let path = "";
  let last = null;
  const { path: points } = object;
  for (let i = 0; i < points.length; i++) {
    const [, a1, e1] = points[i];
    const [, a0, e0] = points[Math.max(i - 1, 0)];
    const steps = Math.max(1, Math.ceil((Math.abs(a1 - a0) + Math.abs(e1 - e0)) / 3));
    for (let k = 1; k <= steps; k++) {
      const [x, y] = onChart(wrap(a0 + ((a1 - a0) * k) / steps), e0 + ((e1 - e0) * k) / steps);
      path += `${last !== null && Math.abs(x - last) < 150 ? "L" : "M"}${x.toFixed(1)} ${y.toFixed(1)}`;
      last = x;
    }
  }
  return make("path", { d: path, "data-id": object.id });
}

export function show() {
  for (const object of field.objects) {
    if (!object.mark) continue;
    const [azimuth, elevation, distance] = placeOf(object);
    const [x, y] = onChart(wrap(azimuth), elevation);
    object.mark.setAttribute("transform", `translate(${x.toFixed(1)} ${y.toFixed(1)})`);
    object.tag.at = [x, y];
    const spread = object.mark.querySelector(".spread");
    spread.setAttribute("rx", Math.min((object.width_deg / 180) * 100, 200));
    spread.setAttribute("ry", Math.min((object.height_deg / 180) * 100, 100));
    const level = levelOf(object);
    object.mark
      .querySelector(".level")
      .setAttribute("r", level === undefined ? 0 : BODY + Math.max(0, (level + 60) / 60) * 9);
    const away = Math.min(distance, 1.2);
    const [toRight, front, up] = vector(azimuth, elevation).map((part) => part * away);
    object["#field-plan"].setAttribute("cx", 90 * toRight);
    object["#field-plan"].setAttribute("cy", -90 * front);
    object["#field-side"].setAttribute("cx", 90 * front);
    object["#field-side"].setAttribute("cy", -90 * up);
  }
  if (!find("#field-chart").hasAttribute("hidden")) showNames();
  const energy = player.playing && player.current?.readings.energy;
  find(".energy").toggleAttribute("hidden", !energy);
  if (energy)
    find(".energy").setAttribute("transform", `translate(${energy.x * 100} ${-energy.y * 100})`);
}

function showNames() {
  const tags = field.objects.filter((object) => object.mark).map((object) => object.tag);
  if (clearOfSources(find("#field-chart").querySelectorAll(".loudspeakers text"), tags))
    printed = null;
  printed ??= boxes(
    find("#field-chart").querySelectorAll(".loudspeakers text, .margins text:not([transform])"),
  );
  setNames(
    field.objects
      .filter((object) => object.mark && !object.mark.classList.contains("nameless"))
      .map((object) => object.tag),
    printed,
  );
}

export function mark(wanted) {
  const many = field.objects.filter((object) => object.mark).length > NAMED_UP_TO;
  for (const object of field.objects) {
    const chosen = field.picked.has(object.id);
    const out = wanted && !object.name.toLowerCase().includes(wanted);
    for (const element of [object.mark, object["#field-plan"], object["#field-side"]]) {
      element?.classList.toggle("chosen", chosen);
      element?.classList.toggle("faint", Boolean(out));
    }
    object.mark?.classList.toggle("nameless", many && !chosen);
    object.mark?.setAttribute("aria-pressed", String(chosen));
    if (chosen && object.mark && object.mark.nextSibling) {
      const held = document.activeElement === object.mark;
      object.mark.parentNode.append(object.mark); // on top
      if (held) object.mark.focus({ preventScroll: true });
    }
  }
  find("#field-chart")
    .querySelectorAll(".paths path")
    .forEach((path) => path.classList.toggle("chosen", field.picked.has(path.dataset.id)));
  const layouts = new Set(
    field.objects
      .filter((object) => field.picked.has(object.id) && object.mode === "bed")
      .map((object) => object.layout),
  );
  find(".beds")
    .querySelectorAll("path")
    .forEach((path) => path.classList.toggle("chosen", layouts.has(path.dataset.layout)));
  find(".scenes").classList.toggle(
    "chosen",
    field.objects.some((object) => object.mode === "scene" && field.picked.has(object.id)),
  );
}

// Places are heard while they are dragged, and sent as one edit: the same command both times.
const moving = (places) => ({
  kind: "move",
  places: Object.fromEntries(
    [...places].map(([id, [a, e, ...away]]) => [
      id,
      [
        Math.round(a * 10) / 10,
        Math.round(e * 10) / 10,
        ...away.map((d) => Math.round(d * 100) / 100),
      ],
    ]),
  ),
});
export const trial = (places) => tryOut(moving(places), "places");
export const keepPlaces = (places) => send(moving(places), field.board, "places");
export const movable = () =>
  field.objects.filter((object) => field.picked.has(object.id) && object.mark && !object.locked);
export const pressed = (name) => find(`[data-${name}]`)?.getAttribute("aria-pressed") === "true";
export const flip = (name) =>
  find(`[data-${name}]`)?.setAttribute("aria-pressed", String(!pressed(name)));

// The chart as a drawing in which sources are dragged; perspective is another (space.js).
export const CHART = {
  drawing: "#field-chart",
  mark: ".object",
  idOf: (mark) => mark.dataset.id,
  begin: () => ({}),
  at: atPointer,
  lets: true, // a press beside them lets go of all
};

// Sources are chosen and dragged in a drawing: `at` is the direction under the pointer, and the part of its distance
// where that is dragged too.
export function dragging(choose, redraw, { drawing, mark: marked, idOf, begin, at, lets }) {
  document.addEventListener("pointerdown", (event) => {
    const mark = field.board && event.target.closest?.(`${drawing} ${marked}`);
    if (!mark) {
      if (lets && field.board && event.target.closest?.(drawing) && !event.shiftKey) choose(null);
      return;
    }
    const id = idOf(mark);
    const more = event.shiftKey || event.ctrlKey;
    choose(id, more);
    if (!mayEdit() || !field.picked.has(id)) return;
    const main = field.objects.find((object) => object.id === id);
    if (main.locked) return;
    const how = pressed("draw") ? "draw" : pressed("record") && player.playing ? "record" : "move";
    const held = how === "move" ? movable() : [main];
    if (!held.length) return;
    const from = new Map(held.map((object) => [object.id, placeOf(object)]));
    field.drag = {
      drawing,
      more,
      how,
      main,
      from,
      ...begin(placeOf(main)),
      path: [],
      places: new Map(),
      start: [event.clientX, event.clientY],
    };
    find(drawing).setPointerCapture(event.pointerId);
  });
  document.addEventListener("pointermove", (event) => {
    const { drag } = field;
    if (drag?.drawing !== drawing) return;
    if (
      !drag.places.size &&
      Math.hypot(event.clientX - drag.start[0], event.clientY - drag.start[1]) < 4
    )
      return;
    const [azimuth, elevation, nearer] = at(event, drag);
    const [a0, e0] = drag.from.get(drag.main.id);
    // an arrangement turns as one; heights move together and stop at the poles
    if (drag.how === "move")
      for (const [id, [a, e, d]] of drag.from)
        drag.places.set(id, [
          wrap(a + azimuth - a0),
          hold(e + elevation - e0),
          ...(nearer === undefined ? [] : [Math.max(d, 0.05) * nearer]),
        ]);
    else drag.places.set(drag.main.id, [azimuth, elevation]);
    if (drag.how === "draw") drag.path.push([azimuth, elevation]);
    redraw();
    if (drag.how === "move") trial(drag.places);
    else hearPath(drag);
  });
  const drop = () => {
    const { drag } = field;
    if (drag?.drawing !== drawing) return;
    field.drag = null;
    if (!drag.places.size) {
      // pressed, not dragged: of several chosen this one is meant
      if (!drag.more && field.picked.size > 1) {
        field.picked.clear();
        choose(drag.main.id, false);
      }
      return;
    }
    if (drag.how === "move") {
      for (const object of field.objects)
        if (drag.from.has(object.id)) {
          const [azimuth, elevation, distance] = drag.places.get(object.id);
          Object.assign(object, { azimuth_deg: azimuth, elevation_deg: elevation });
          object.distance = distance ?? object.distance;
        }
      keepPlaces(drag.places);
      return;
    }
    const points = drag.how === "draw" ? timed(drag.path) : drag.path;
    send({ kind: "record_path", strip: drag.main.id, points }, field.board, "path");
  };
  document.addEventListener("pointerup", drop);
  document.addEventListener("pointercancel", drop);
}

// A path under the hand is heard as it will be kept; from the last point on it stays there a little while.
const STAYS_S = 0.4;
function hearPath({ how, main, path, places }) {
  const points = how === "draw" ? timed(path) : path;
  const at = points.at(-1)?.[0];
  if (points.length < 2) return;
  const place = places.get(main.id);
  tryOut(
    {
      kind: "record_path",
      strip: main.id,
      points: how === "draw" ? points : [...points, [at + STAYS_S, ...place]],
    },
    "path",
  );
}

// While it plays and Record is on, where the hand holds a source is kept as often as it is drawn.
export function take() {
  const { drag } = field;
  if (drag?.how !== "record") return;
  const place = drag.places.get(drag.main.id);
  const at = Math.round(now() * 1000) / 1000;
  if (place && at > (drag.path.at(-1)?.[0] ?? -1))
    drag.path.push([at, ...place.map((angle) => Math.round(angle * 100) / 100)]);
}

// A drawn path at an even speed, from the playhead on, or over the loop.
function timed(path) {
  const { loop } = player.state;
  const begins = loop ? loop[0] / player.rate : now();
  const typed = parseFloat(find("[data-draw-for]").value.replace(",", "."));
  const lasts = loop
    ? (loop[1] - loop[0]) / player.rate
    : Number.isFinite(typed) && typed > 0
      ? typed
      : 4;
  const lengths = [0];
  for (let i = 1; i < path.length; i++) {
    const [one, other] = [vector(...path[i - 1]), vector(...path[i])];
    lengths.push(
      lengths[i - 1] + Math.max(Math.hypot(...one.map((part, k) => part - other[k])), 1e-6),
    );
  }
  const whole = lengths.at(-1) || 1;
  return path
    .map(([a, e], i) => [
      Math.round((begins + (lasts * lengths[i]) / whole) * 1000 + i * 0.001) / 1000,
      Math.round(a * 100) / 100,
      Math.round(e * 100) / 100,
    ])
    .filter(([t], i, all) => i === 0 || t > all[i - 1][0]);
}
