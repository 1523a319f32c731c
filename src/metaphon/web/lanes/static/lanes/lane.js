// A lane: breakpoints added, dragged, nudged and drawn by hand; the playhead goes along. Field has one beneath its
// chart, every other workspace one in a drawer (drawer.js); only one of them is there at a time.

import { player } from "../listen/player.js";
import { typed } from "../shell/command.js";
import { make, near, smooth, wrap } from "../shell/drawing.js";
import { release, send, tryOut } from "../shell/edit.js";
import { nudge, restingOf } from "../shell/nudge.js";

const TALL = 112;
const LEFT = 46;
let lane = null; // what is shown: strip, path, points [[seconds, value, curve]], low, high
let root = null; // where its edits go, though it be gone
let shown = ""; // the strip and parameter that are shown
let chosen = -1;
let drag = null;
let waiting = 0; // edits on their way
let turning = false; // whether the playhead is being moved on
const svg = () => document.getElementById("lane");
const tools = () => document.querySelector(".lane-tools");
const mayEdit = () => "mayEdit" in tools().dataset;
const now = () => player.position / player.rate;

function beginLane() {
  const fresh = tools()?.dataset.lane && JSON.parse(tools().dataset.lane);
  const same = lane && fresh && shown === `${fresh.strip} ${fresh.path}`;
  if (!fresh) return (lane = null);
  root = tools().closest("[data-edit-url]");
  // what is under the hand or on its way is not taken back, nor is what was asked for before it had arrived
  const old = fresh.revision < +document.getElementById("history").dataset.revision;
  if (same && (drag || isNudged() || waiting || old)) return drawLane();
  if (!same) chosen = -1;
  [lane, shown] = [fresh, `${fresh.strip} ${fresh.path}`];
  drawLane();
  if (!turning) playhead();
}

const wide = () => Math.max(svg().clientWidth, 300);
const ends = () => {
  if (!lane.turns) return [lane.low, lane.high];
  return [-180, 180];
};
const xOf = (seconds) => LEFT + (seconds / lane.length_s) * (wide() - LEFT - 8);
const gain = () => lane.low === -120;
// gains give their length to the range that is used
const yOf = (value) => {
  const [low, high] = ends();
  const part = gain()
    ? value <= -60
      ? 0
      : (value + 60) / (high + 60)
    : lane.log
      ? Math.log(value / low) / Math.log(high / low)
      : (value - low) / (high - low);
  return TALL - 8 - part * (TALL - 16);
};
const at = (event) => {
  const box = svg().getBoundingClientRect();
  const [low, high] = ends();
  const seconds = Math.max(
    0,
    Math.min(
      lane.length_s,
      ((event.clientX - box.left - LEFT) / (wide() - LEFT - 8)) * lane.length_s,
    ),
  );
  const part = Math.max(0, Math.min(1, (TALL - 8 - (event.clientY - box.top)) / (TALL - 16)));
  const value = gain()
    ? part <= 0
      ? low
      : -60 + part * (high + 60)
    : lane.log
      ? low * (high / low) ** part
      : low + part * (high - low);
  return [Math.round(seconds * 1000) / 1000, value];
};
const digits = () => (ends()[1] - ends()[0] > 20 ? 1 : 3);
const said = (value) => value.toFixed(digits()).replace("-", "\u2212");
const towards = (from, to) => (lane.turns ? near(from, to) : to);

function drawLane() {
  const area = svg();
  if (!lane || !area) return;
  const [low, high] = ends();
  const marks = gain()
    ? [-60, -40, -20, 0, 12]
    : lane.log
      ? [low, Math.sqrt(low * high), high]
      : [low, (low + high) / 2, high];
  const parts = [];
  for (const mark of marks) {
    parts.push(
      make("path", { class: "rule", d: `M${LEFT} ${yOf(mark)}H${wide() - 8}` }),
      text(LEFT - 6, yOf(mark) + 4, said(mark).replace(/\.0+$/, ""), "end"),
    );
  }
  const step =
    [1, 2, 5, 10, 20, 30, 60, 120, 300, 600].find((s) => (s / lane.length_s) * wide() > 60) ?? 1800;
  for (let t = step; t < lane.length_s; t += step)
    parts.push(
      make("path", { class: "rule", d: `M${xOf(t)} ${TALL - 8}v4` }),
      text(xOf(t), TALL + 8, `${t} s`, "middle"),
    );
  const { points } = lane;
  if (!points.length) {
    parts.push(
      make("path", { class: "line still", d: `M${LEFT} ${yOf(lane.still)}H${wide() - 8}` }),
      text(
        wide() / 2,
        yOf(lane.still) - 6,
        mayEdit() ? "does not move; press to add a breakpoint" : "does not move",
        "middle",
      ),
    );
  } else {
    parts.push(make("path", { class: "line", d: curvePath() }));
    points.forEach(([t, value, curve], i) => {
      const dot = make("path", {
        class: `point ${curve}${i === chosen ? " chosen" : ""}`,
        d: {
          linear: "M0 -4.5L4.5 0L0 4.5L-4.5 0Z",
          hold: "M-4 -4H4V4H-4Z",
          smooth: "M-4.5 0A4.5 4.5 0 1 1 4.5 0A4.5 4.5 0 1 1 -4.5 0Z",
        }[curve],
        transform: `translate(${xOf(t)} ${yOf(value)})`,
        "data-point": i,
      });
      parts.push(dot);
    });
  }
  parts.push(make("path", { class: "playhead", d: `M${xOf(now())} 4V${TALL - 4}` }));
  area.replaceChildren(...parts);
  area.setAttribute("viewBox", `0 0 ${wide()} ${TALL + 14}`);
  const point = points[chosen];
  const typedHere = tools().querySelector(".at-point");
  if (typedHere) {
    typedHere.hidden = !point;
    const told = point ? [point[0].toFixed(3), said(point[1])] : ["", ""];
    typedHere.querySelectorAll("input").forEach((input, n) => {
      if (document.activeElement !== input) input.value = told[n];
    });
  }
  tools()
    .querySelectorAll("[data-curve]")
    .forEach((button) => {
      button.disabled = !point;
      button.setAttribute("aria-pressed", String(point?.[2] === button.dataset.curve));
    });
}

function curvePath() {
  const { points } = lane;
  let path = `M${LEFT} ${yOf(points[0][1])}H${xOf(points[0][0])}`;
  for (let i = 1; i < points.length; i++) {
    const [t0, v0, curve] = points[i - 1];
    const [t1, v1] = points[i];
    if (curve === "hold") {
      path += `H${xOf(t1)}V${yOf(v1)}`;
      continue;
    }
    const aim = towards(v0, v1);
    for (let k = 1; k <= 16; k++) {
      const part = curve === "smooth" ? smooth(k / 16) : k / 16;
      const value = v0 + (aim - v0) * part;
      const wrapped = lane.turns ? wrap(value) : value;
      const jumps = lane.turns && k > 1 && Math.abs(wrapped - last) > 180;
      path += `${jumps ? "M" : "L"}${xOf(t0 + ((t1 - t0) * k) / 16)} ${yOf(wrapped)}`;
      last = wrapped;
    }
  }
  return `${path}H${wide() - 8}`;
}
let last = 0;

function text(x, y, words, anchor) {
  const element = make("text", { x, y, "text-anchor": anchor });
  element.textContent = words;
  return element;
}

// The playhead alone, for as long as there is a lane.
function playhead() {
  const line = lane && svg()?.querySelector(".playhead");
  turning = Boolean(line);
  if (!line) return;
  if (player.playing) line.setAttribute("d", `M${xOf(now())} 4V${TALL - 4}`);
  requestAnimationFrame(playhead);
}

// A change of the lane as a command: `place` is where the breakpoint was among those that are kept, null for a new one.
const about = (more) => ({ strip: lane.strip, path: lane.path, ...more });
const rounded = (value) => Math.round(value * 1e4) / 1e4;
const setPoint = (place, [t, value, curve]) =>
  about({ kind: "set_breakpoint", place, t_s: t, value: rounded(value), curve });
const keepEdit = (command) => {
  waiting += 1;
  send(command, tools() ?? root, "lane").finally(() => (waiting -= 1));
};
const placeOf = (point) => lane.points.indexOf(point);
// In order of time, after those at the same time, as the core puts it.
const settle = (point) => {
  const others = lane.points.filter((one) => one !== point);
  const at = others.findIndex((one) => one[0] > point[0]);
  others.splice(at < 0 ? others.length : at, 0, point);
  lane.points = others;
  chosen = placeOf(point);
  drawLane();
};
// A breakpoint under the arrow keys is known by where it was.
const isNudged = () => lane.points.some((point) => restingOf(point) !== undefined);
const later = (point, from) => {
  const place = restingOf(point) ?? from;
  const command = setPoint(place, point);
  tryOut(command, "lane");
  nudge(point, place, () => void keepEdit(command));
};
const add = (point) => {
  lane.points.push(point);
  settle(point);
};

// A breakpoint is set by numbers too; what is no number is as it was.
document.addEventListener("change", ({ target }) => {
  const which = lane && target.dataset?.ofPoint;
  const point = lane?.points[chosen];
  if (!which || !point) return;
  const number = typed(target.value);
  if (typeof number === "number") {
    const place = chosen;
    const [low, high] = which === "0" ? [0, lane.length_s] : ends();
    point[+which] = Math.min(Math.max(number, low), high);
    settle(point);
    keepEdit(setPoint(place, point));
  }
  target.value = which === "0" ? point[0].toFixed(3) : said(point[1]);
});

document.addEventListener("pointerdown", (event) => {
  const area = event.target.closest?.("#lane");
  if (!area || !lane || !mayEdit()) return;
  const dot = event.target.closest("[data-point]");
  const free = tools().querySelector("[data-freehand]")?.getAttribute("aria-pressed") === "true";
  if (free) drag = { stroke: [[...at(event), "linear"]] };
  else if (dot) {
    chosen = +dot.dataset.point;
    drag = { point: lane.points[chosen], place: chosen, moved: false };
  } else {
    const point = [...at(event), "linear"];
    drag = { point, place: null, moved: true };
    add(point);
    tryOut(setPoint(null, point), "lane");
  }
  area.focus();
  area.setPointerCapture(event.pointerId);
  drawLane();
  event.preventDefault();
});
document.addEventListener("pointermove", (event) => {
  if (!drag || !lane) return;
  const [t, value] = at(event);
  if (drag.stroke) {
    if (t > drag.stroke.at(-1)[0]) drag.stroke.push([t, value, "linear"]);
    drawLane();
    svg().append(
      make("path", {
        class: "line stroke",
        d: drag.stroke.map(([s, v], i) => `${i ? "L" : "M"}${xOf(s)} ${yOf(v)}`).join(""),
      }),
    );
    return;
  }
  [drag.point[0], drag.point[1]] = [t, value];
  drag.moved = true;
  settle(drag.point);
  tryOut(setPoint(drag.place, drag.point), "lane");
});
for (const end of ["pointerup", "pointercancel"]) {
  document.addEventListener(end, () => {
    const done = drag;
    drag = null;
    if (!done) return;
    if (done.stroke) {
      const points = done.stroke.map(([t_s, value, curve]) => ({
        t_s,
        value: rounded(value),
        curve,
      }));
      if (points.length > 1) keepEdit(about({ kind: "draw_lane", points, into: true }));
      else drawLane();
    } else if (done.moved) keepEdit(setPoint(done.place, done.point));
    else release("lane");
  });
}
document.addEventListener(
  "keydown",
  (event) => {
    if (event.target.id !== "lane" || !lane || !mayEdit()) return;
    const point = lane.points[chosen];
    const [low, high] = ends();
    const size = event.shiftKey ? 10 : 1;
    const step = (high - low) / 360;
    if (event.key === "Delete" || event.key === "Backspace") {
      if (!point) return;
      const place = chosen;
      lane.points.splice(place, 1);
      chosen = Math.min(chosen, lane.points.length - 1);
      drawLane();
      keepEdit(about({ kind: "remove_breakpoint", place }));
    } else if (event.key === "Enter" && !point) {
      const added = [
        Math.round(now() * 1000) / 1000,
        lane.points.length ? lane.points[0][1] : lane.still,
        "linear",
      ];
      add(added);
      keepEdit(setPoint(null, added));
    } else if (event.key === "Tab" || event.key === "Home" || event.key === "End") {
      if (
        event.key === "Tab" &&
        (!lane.points.length || (event.shiftKey ? chosen <= 0 : chosen >= lane.points.length - 1))
      )
        return;
      chosen =
        event.key === "Tab"
          ? chosen + (event.shiftKey ? -1 : 1)
          : event.key === "Home"
            ? 0
            : lane.points.length - 1;
      drawLane();
    } else if (point && { ArrowUp: 1, ArrowDown: 1, ArrowLeft: 1, ArrowRight: 1 }[event.key]) {
      const [dt, dv] = {
        ArrowUp: [0, step],
        ArrowDown: [0, -step],
        ArrowLeft: [-0.05, 0],
        ArrowRight: [0.05, 0],
      }[event.key];
      const place = chosen;
      point[0] = Math.max(0, Math.round((point[0] + dt * size) * 1000) / 1000);
      const next = lane.log ? point[1] * 2 ** ((Math.sign(dv) * size) / 24) : point[1] + dv * size;
      point[1] = Math.max(low, Math.min(high, next));
      settle(point);
      later(point, place);
    } else return;
    event.preventDefault();
    event.stopPropagation();
  },
  true,
);
document.addEventListener("click", (event) => {
  const button = event.target.closest?.(".lane-tools :is([data-curve], [data-freehand])");
  if (!button || !lane) return;
  if ("freehand" in button.dataset)
    return button.setAttribute(
      "aria-pressed",
      String(button.getAttribute("aria-pressed") !== "true"),
    );
  if (!lane.points[chosen]) return;
  lane.points[chosen][2] = button.dataset.curve;
  drawLane();
  keepEdit(setPoint(chosen, lane.points[chosen]));
});
document.addEventListener("change", ({ target }) => {
  if (!target.matches?.(".lane-tools :is([name=parameter], [name=strip])")) return;
  const asked = new URLSearchParams(tools().dataset.query);
  asked.set(target.name, target.value);
  if (target.name === "strip") asked.delete("parameter"); // what moves on the other one
  tools().dataset.query = asked; // what is drawn anew meanwhile is the new one too
  delete tools().dataset.lane; // what is pressed before the other one is there changes nothing
  beginLane();
  svg().replaceChildren();
  wanted = `${tools().dataset.base}?${asked}`;
  htmx.ajax("GET", wanted, {
    target: tools().closest(holder),
    swap: "innerHTML",
  });
});
// a phrase is the loop, where there is one
document.addEventListener(
  "beforetoggle",
  ({ target, newState }) => {
    if (target.id !== "lane-phrase" || newState !== "open") return;
    const form = target.querySelector("form").elements;
    const loop = player.state.loop ?? [player.position, player.position + 4 * player.rate];
    for (const [name, frame] of [
      ["start_s", loop[0]],
      ["end_s", loop[1]],
    ])
      form[name].value ||= (frame / player.rate).toFixed(3);
  },
  true,
);
player.addEventListener("transport", () => {
  const line = lane && svg()?.querySelector(".playhead");
  if (line) line.setAttribute("d", `M${xOf(now())} 4V${TALL - 4}`);
});
addEventListener("resize", () => lane && drawLane());
// What a box of the lane holds is not drawn away under the hand; the lane is drawn anew when the box is closed.
const holder = "#field-lanes, #lanes-body";
let stale = false;
let wanted = ""; // the lane that was asked for last: an answer that comes late is not drawn over it
const isAsked = ({ requestConfig }) => requestConfig.verb === "get";
document.addEventListener("htmx:beforeRequest", ({ detail }) => {
  if (detail.target.matches?.(holder) && isAsked(detail)) wanted = detail.requestConfig.path;
});
document.addEventListener("htmx:beforeSwap", ({ detail }) => {
  if (!detail.target.matches?.(holder)) return;
  if (isAsked(detail) && detail.requestConfig.path !== wanted) detail.shouldSwap = false;
  else if (detail.target.querySelector(":popover-open")) {
    detail.swapOverride = "none"; // the history beside it is drawn all the same
    stale = true;
  }
});
document.addEventListener(
  "submit",
  ({ target }) => target.closest?.(holder) && target.closest("[popover]")?.hidePopover(),
);
document.addEventListener(
  "toggle",
  ({ target, newState }) => {
    const held = newState === "closed" && stale && target.closest?.(holder);
    if (!held) return;
    stale = false;
    htmx.ajax("GET", `${tools().dataset.base}?${tools().dataset.query}`, {
      target: held,
      swap: "innerHTML",
    });
  },
  { capture: true },
);
document.addEventListener("htmx:afterSettle", beginLane);
beginLane();

export const parameterShown = () => lane?.path ?? "";
