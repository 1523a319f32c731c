// The Listen workspace: the meters drawn in step with the sound, and the monitors that are not a single value.

import { colour, inStep, past, say, signed, sized } from "./bar.js";
import { get, numberOf, put, showAll } from "./bind.js";
import { player } from "./player.js";

const FLOOR = -72;
let board = null;
let spectrogram = null;
let colours = {};

const find = (selector) => board.querySelector(selector);
const all = (selector) => [...board.querySelectorAll(selector)];
const csrf = () => ({ "X-CSRFToken": document.querySelector("meta[name=csrf]").content });

function begin() {
  const found = document.querySelector(".listening");
  if (found === board) return;
  board = found;
  if (!board) return;
  board.bands = JSON.parse(board.dataset.bands);
  board.layouts = JSON.parse(board.dataset.layouts);
  const names = ["ink", "quiet", "rule", "ground", "kelp", "coral", "brass", "slate", "raised"];
  colours = Object.fromEntries(names.map((name) => [name, colour(`--${name}`)]));
  spectrogram = null;
  settings();
  status();
  draw();
}

const target = () => get("hearing.target") ?? player.sources?.groups[0]?.items[0].hearing.target ?? "0+2+0";
const labels = () => player.sources?.labels?.[target()] ?? [];

function settings() {
  if (!board) return;
  showAll(board);
  channels();
  const view = board.querySelector("[data-view]").dataset.view;
  if (view === "meters") places();
  if (view === "compare") compare();
  if (view === "headphones") phones();
  if (view === "loudspeakers") speakers();
  draw();
}

// Left: every channel of what is heard, to hear alone or mute.
function channels() {
  const box = find(".channels-of");
  const names = labels();
  if (box.dataset.for !== names.join()) {
    box.dataset.for = names.join();
    box.replaceChildren(
      ...names.map((name) => {
        const cell = document.createElement("span");
        cell.className = "channel";
        const [alone, mute] = [document.createElement("button"), document.createElement("button")];
        alone.className = "button fig";
        alone.textContent = name.replace("-", "\u2212");
        alone.title = `Hear ${name} alone, with others chosen so`;
        alone.dataset.alone = name;
        mute.className = "button square mute";
        mute.textContent = "M";
        mute.dataset.silent = name;
        mute.setAttribute("aria-label", `Mute ${name}`);
        cell.append(alone, mute);
        return cell;
      }),
    );
  }
  for (const list of ["alone", "silent"]) {
    box.querySelectorAll(`[data-${list}]`).forEach((button) => button.setAttribute("aria-pressed", String(player.state.monitor[list].includes(button.dataset[list]))));
  }
}

function places() {
  const here = board.layouts[target()] ?? [];
  find(".places").replaceChildren(
    ...here.map(({ label, x, y }) => {
      const mark = document.createElementNS("http://www.w3.org/2000/svg", "g");
      mark.setAttribute("transform", `translate(${x * 100} ${-y * 100})`);
      mark.innerHTML = `<path d="M-4 -4H4V4H-4Z"/><title>${label}</title>`;
      return mark;
    }),
  );
}

// --- meters ---------------------------------------------------------------------------------

const live = () => (player.playing ? player.current?.readings : null);
function text(name, value) {
  const element = find(`[data-live="${name}"]`);
  if (element && element.textContent !== value) element.textContent = value;
}

// Bars and points at every turn, what the eye does not follow as fast at every third.
function draw(slowly = false) {
  if (!board) return;
  const view = board.querySelector("[data-view]").dataset.view;
  if (view === "meters") {
    const readings = live();
    const step = player.step;
    if (readings && !readings.blind && step) {
      drawLevels(step, readings);
      drawGoniometer(step.points);
      if (slowly) return;
      drawMatrix(readings.matrix);
      drawLoss(readings.loss, readings.loss_stereo);
      figures(step, readings);
    } else if (!player.playing) {
      drawLevels({ peak: [], rms: [] }, { hold: [], overs: [] });
      drawGoniometer([]);
      drawMatrix([]);
      drawLoss([], []);
    }
    drawBands();
    drawStory();
  }
}

function figures(step, readings) {
  for (const name of ["momentary", "short", "integrated", "range"]) text(name, signed(readings[name]));
  text("true_peak", signed(Math.max(...readings.true_peak)));
  text("overs", String(readings.overs.reduce((a, b) => a + b, 0)));
  text("correlation", signed(step.correlation, 2));
  text("worst", signed(readings.worst, 2));
  text("balance", signed(step.balance));
  text("front_rear", signed(readings.energy?.front_rear));
  text("level_height", signed(readings.energy?.level_height));
  const vector = find(".vector");
  vector.toggleAttribute("hidden", !readings.energy);
  if (!readings.energy) return text("direction", "");
  const { x, y, azimuth_deg, elevation_deg, length } = readings.energy;
  vector.setAttribute("transform", `translate(${x * 100} ${-y * 100})`);
  // the spread of energy about its direction: 2 arccos of the length (Zotter & Frank 2019, eq. 2.16)
  find(".spread").setAttribute("r", String(Math.max(6, (Math.acos(Math.min(length, 1)) / Math.PI) * 100)));
  text("direction", `${signed(azimuth_deg, 0)}\u00b0, ${signed(elevation_deg, 0)}\u00b0  r ${length.toFixed(2)}`);
}

const up = (db, height) => Math.min(Math.max((db - FLOOR) / -FLOOR, 0), 1.06) * height * 0.94;

function drawLevels(step, { hold, overs }) {
  const { pen, width, height } = sized(find('[data-draw="levels"]'));
  const names = labels();
  const count = Math.max(names.length, step.peak.length, 1);
  const left = 30;
  const base = height - 18;
  const each = Math.min((width - left) / count, 46);
  pen.font = "11px Atkinson Mono, monospace";
  pen.textAlign = "right";
  for (const db of [0, -6, -12, -18, -24, -36, -48, -60]) {
    const y = base - up(db, base);
    pen.fillStyle = colours.rule;
    pen.fillRect(left, Math.round(y), width - left, 1);
    pen.fillStyle = colours.quiet;
    pen.fillText(db ? `\u2212${-db}` : "0", left - 5, y + 4);
  }
  pen.textAlign = "center";
  for (let i = 0; i < count; i++) {
    const x = left + i * each + 3;
    const wide = each - 6;
    const [peak, rms, held] = [step.peak[i] ?? -120, step.rms[i] ?? -120, hold[i] ?? -120];
    pen.fillStyle = colours.raised;
    pen.fillRect(x, 0, wide, base);
    pen.fillStyle = colours.kelp;
    pen.fillRect(x, base - up(rms, base), wide, up(rms, base));
    pen.globalAlpha = 0.4;
    pen.fillRect(x, base - up(peak, base), wide, up(peak, base));
    pen.globalAlpha = 1;
    pen.fillStyle = overs[i] ? colours.coral : colours.ink;
    if (held > FLOOR) pen.fillRect(x, base - up(held, base), wide, 2);
    if (overs[i]) pen.fillRect(x, 0, wide, 4);
    pen.fillStyle = colours.quiet;
    pen.fillText((names[i] ?? `${i + 1}`).replace("-", "\u2212"), x + wide / 2, height - 5, each);
  }
}

// Left and right turned by 45 degrees: what both have in common stands upright.
function drawGoniometer(points) {
  const { pen, width, height } = sized(find('[data-draw="goniometer"]'));
  const [x, y, radius] = [width / 2, height / 2, Math.max(Math.min(width, height) / 2 - 10, 0)];
  pen.strokeStyle = colours.rule;
  pen.beginPath();
  pen.arc(x, y, radius, 0, 2 * Math.PI);
  pen.moveTo(x, y - radius);
  pen.lineTo(x, y + radius);
  pen.moveTo(x - radius, y);
  pen.lineTo(x + radius, y);
  const slant = radius * Math.SQRT1_2;
  pen.moveTo(x - slant, y - slant);
  pen.lineTo(x + slant, y + slant);
  pen.moveTo(x + slant, y - slant);
  pen.lineTo(x - slant, y + slant);
  pen.stroke();
  pen.font = "11px Atkinson Mono, monospace";
  pen.fillStyle = colours.quiet;
  pen.fillText("L", x - slant - 11, y - slant);
  pen.fillText("R", x + slant + 4, y - slant);
  let most = 1;
  for (const [l, r] of points) most = Math.max(most, Math.abs(l), Math.abs(r));
  const scale = (radius * 0.9) / Math.max(most, 60); // quiet sound is drawn larger, down to -24 dBFS
  for (const [l, r] of points) {
    pen.fillStyle = l * r < 0 ? colours.coral : colours.kelp;
    pen.fillRect(x + (r - l) * Math.SQRT1_2 * scale - 1, y - (l + r) * Math.SQRT1_2 * scale - 1, 2.5, 2.5);
  }
}

// A column for each stretch heard: kelp in phase, dark unrelated, coral out of phase; pale where it is silent.
function addBands(bands) {
  const canvas = find('[data-draw="bands"]');
  if (!spectrogram) spectrogram = new OffscreenCanvas(640, bands.length);
  const pen = spectrogram.getContext("2d");
  pen.drawImage(spectrogram, -1, 0);
  bands.forEach((value, i) => {
    pen.fillStyle = value == null ? colours.raised : shade(value);
    pen.fillRect(639, bands.length - 1 - i, 1, 1);
  });
  return canvas;
}
const rgb = (hex) => [1, 3, 5].map((i) => parseInt(hex.slice(i, i + 2), 16));
function shade(value) {
  const [from, to] = [rgb(colours.ground), rgb(value < 0 ? colours.coral : colours.kelp)];
  const part = Math.abs(value);
  return `rgb(${from.map((c, i) => Math.round(c + (to[i] - c) * part)).join()})`;
}

function drawBands() {
  const { pen, width, height } = sized(find('[data-draw="bands"]'));
  const left = 42;
  pen.fillStyle = colours.raised;
  pen.fillRect(left, 0, width - left, height);
  if (spectrogram) {
    pen.imageSmoothingEnabled = false;
    pen.drawImage(spectrogram, left, 0, width - left, height);
  }
  pen.font = "11px Atkinson Mono, monospace";
  pen.fillStyle = colours.quiet;
  pen.textAlign = "right";
  for (const [words, hz] of [["10k", 10000], ["1k", 1000], ["100", 100]]) {
    const at = board.bands.findIndex((f) => f >= hz * 0.99);
    pen.fillText(words, left - 5, height - ((at + 0.5) / board.bands.length) * height + 4);
  }
}

function drawLoss(loss, stereo) {
  const { pen, width, height } = sized(find('[data-draw="loss"]'));
  const [left, most] = [42, 12];
  pen.font = "11px Atkinson Mono, monospace";
  pen.textAlign = "right";
  for (const db of [0, 3, 6, 9]) {
    const x = left + (db / most) * (width - left);
    pen.fillStyle = colours.rule;
    pen.fillRect(x, 0, 1, height - 14);
    pen.fillStyle = colours.quiet;
    pen.fillText(String(db), x + 9, height - 2);
  }
  loss.forEach((value, i) => {
    if (value == null) return;
    pen.fillStyle = value > 6 ? colours.coral : value > 3.2 ? colours.brass : colours.kelp;
    const each = (height - 14) / loss.length;
    pen.fillRect(left, height - 14 - (i + 1) * each, (Math.min(value, most) / most) * (width - left), Math.max(each - 1, 1));
    if (stereo[i] == null) return;
    pen.fillStyle = colours.ink;
    pen.fillRect(left + (Math.min(Math.max(stereo[i], 0), most) / most) * (width - left) - 1, height - 14 - (i + 1) * each, 2, Math.max(each - 1, 1));
  });
}

function drawMatrix(rows) {
  const { pen, width, height } = sized(find('[data-draw="matrix"]'));
  const names = labels();
  const count = Math.max(rows.length, names.length, 1);
  const left = 44;
  const each = Math.min((width - left) / count, (height - 4) / count);
  pen.font = "11px Atkinson Mono, monospace";
  for (let i = 0; i < count; i++) {
    pen.fillStyle = colours.quiet;
    pen.textAlign = "right";
    if (each >= 11) pen.fillText((names[i] ?? "").replace("-", "\u2212"), left - 5, i * each + each / 2 + 4);
    for (let j = 0; j < count; j++) {
      const value = rows[i]?.[j];
      pen.fillStyle = value == null ? colours.raised : shade(value);
      pen.fillRect(left + j * each, i * each, each - 1, each - 1);
      if (value != null && each > 34) {
        pen.fillStyle = colours.ink;
        pen.textAlign = "center";
        pen.fillText(signed(value, 1), left + (j + 0.5) * each, i * each + each / 2 + 4);
      }
    }
  }
}

function drawStory() {
  const { pen, width, height } = sized(find('[data-draw="story"]'));
  const frames = player.frames();
  const left = 30;
  pen.font = "11px Atkinson Mono, monospace";
  pen.textAlign = "right";
  const y = (lufs) => Math.min(Math.max(-lufs / 60, 0), 1) * (height - 4) + 2;
  for (const lufs of [-10, -23, -40]) {
    pen.fillStyle = colours.rule;
    pen.fillRect(left, y(lufs), width - left, 1);
    pen.fillStyle = colours.quiet;
    pen.fillText(`\u2212${-lufs}`, left - 5, y(lufs) + 4);
  }
  if (!frames) return;
  const tenths = (frames / player.rate) * 10;
  const line = (values, stroke) => {
    pen.strokeStyle = stroke;
    pen.lineWidth = 1.5;
    pen.beginPath();
    let down = false;
    values.forEach((value, i) => {
      if (value == null) return (down = false);
      const at = [left + (i / tenths) * (width - left), y(value)];
      if (down) pen.lineTo(...at);
      else pen.moveTo(...at);
      down = true;
    });
    pen.stroke();
  };
  line(past.rendered?.momentary_lufs ?? [], colours.rule);
  const heard = [];
  let last = null;
  for (let i = 0; i < past.heard.length; i++) heard.push((last = past.heard[i]?.m ?? (past.heard[i + 1] ? last : null)));
  line(heard, colours.kelp);
  pen.fillStyle = colours.ink;
  pen.fillRect(left + (player.position / frames) * (width - left), 0, 1, height);
}

// --- compare --------------------------------------------------------------------------------

let blind = false;
function compare() {
  const { comparing, active } = player.state;
  all(".side").forEach((side) => side.classList.toggle("heard", comparing && active === side.dataset.side));
  const begin = find("[data-blind]");
  begin.textContent = blind ? "End" : "Begin";
  begin.setAttribute("aria-pressed", String(blind));
  find("[data-x]").disabled = !blind;
  all("[data-answer]").forEach((button) => (button.disabled = !blind));
}
player.addEventListener("blind", ({ detail }) => {
  if (!board?.querySelector(".score")) return;
  find(".score").textContent = `${detail.right ? "Right" : "Wrong"}. ${detail.score} of ${detail.of} right; by guessing as good or better in ${(detail.chance * 100).toFixed(1)} %.`;
});

// --- headphones -----------------------------------------------------------------------------

let drawn = "";
function phones() {
  const { monitor } = player.state;
  const room = monitor.binaural?.room;
  find("[data-room]").checked = Boolean(room);
  find("[data-room-settings]").hidden = !room;
  find("[data-worn]").checked = Boolean(monitor.worn);
  find("[data-correct]").setAttribute("aria-pressed", String(Boolean(monitor.correction?.response)));
  const pair = { left_deg: 30, right_deg: -30, ...monitor.virtual_pair };
  const lead = [];
  for (const [name, degrees] of [["one", pair.left_deg], ["two", pair.right_deg]]) {
    const [x, y] = [-Math.sin((degrees * Math.PI) / 180) * 92, -Math.cos((degrees * Math.PI) / 180) * 92];
    find(`.pair-plan .${name}`).setAttribute("transform", `translate(${x.toFixed(1)} ${y.toFixed(1)})`);
    lead.push(`M0 0L${x.toFixed(1)} ${y.toFixed(1)}`);
  }
  find(".pair-plan .leads").setAttribute("d", lead.join(""));
  const correction = monitor.correction;
  const wanted = correction?.response ? JSON.stringify(correction) : "";
  const curves = find(".curves");
  if (wanted && (wanted !== drawn || !curves.querySelector("svg"))) {
    drawn = wanted;
    htmx.ajax("GET", `${curves.dataset.address}?correction=${encodeURIComponent(wanted)}`, { target: curves, swap: "innerHTML" });
  }
}

// --- loudspeakers ---------------------------------------------------------------------------

function speakers() {
  const layout = get("monitor.loudspeakers.layout") ?? "0+5+0";
  const names = player.sources?.labels?.[layout] ?? [];
  const body = find(".speakers tbody");
  if (body.dataset.for !== names.join()) {
    body.dataset.for = names.join();
    body.replaceChildren(
      ...names.map((name, i) => {
        const row = find("#speaker-row").content.cloneNode(true).querySelector("tr");
        row.dataset.channel = i;
        row.querySelector(".label").textContent = name.replace("-", "\u2212");
        row.querySelectorAll("input").forEach((input) => input.setAttribute("aria-label", `${input.getAttribute("aria-label")} of ${name}`));
        row.querySelector(".pole").setAttribute("aria-label", `Invert ${name}`);
        row.querySelectorAll("[data-bind]").forEach((input) => (input.dataset.bind = `speaker.${i}.${input.dataset.bind}`));
        return row;
      }),
    );
  }
  const rows = get("monitor.loudspeakers.loudspeakers") ?? [];
  const only = get("monitor.loudspeakers.test_channel");
  [...body.rows].forEach((row, i) => {
    const held = rows[i] ?? {};
    for (const input of row.querySelectorAll(".number")) {
      if (document.activeElement === input) continue;
      const box = input.closest(".value");
      input.value = (+(held[input.name] ?? box.dataset.default)).toFixed(+box.dataset.digits).replace("-", "\u2212");
      box.dispatchEvent(new Event("redraw", { bubbles: true }));
    }
    row.querySelector(".output").value = held.output ?? i + 1;
    row.querySelector(".pole").setAttribute("aria-pressed", String(Boolean(held.inverted)));
    row.querySelector("[data-test-one]").setAttribute("aria-pressed", String(only === i + 1));
  });
}
function speaker(i, change) {
  const count = find(".speakers tbody").rows.length;
  const rows = [...(get("monitor.loudspeakers.loudspeakers") ?? [])];
  while (rows.length < count) rows.push({});
  rows[i] = { ...rows[i], ...change };
  put("monitor.loudspeakers.loudspeakers", rows.slice(0, count));
}

// --- what is pressed ------------------------------------------------------------------------

document.addEventListener("click", async (event) => {
  if (!board) return;
  const button = event.target.closest?.("button");
  if (!button || !board.contains(button)) return;
  const { monitor } = player.state;
  const { dataset } = button;
  const toggled = (list, name) => (list.includes(name) ? list.filter((other) => other !== name) : [...list, name]);
  if (dataset.alone) player.monitor({ alone: toggled(monitor.alone, dataset.alone) });
  else if (dataset.silent) player.monitor({ silent: toggled(monitor.silent, dataset.silent) });
  else if (dataset.group !== undefined) player.monitor({ silent: [], alone: dataset.group ? labels().filter((name) => dataset.group.includes(name[0]) || (dataset.group === "M" && name.startsWith("LFE"))) : [] });
  else if (dataset.clear !== undefined) document.dispatchEvent(new KeyboardEvent("keydown", { key: "0" }));
  else if (dataset.reset !== undefined) {
    player.send({ do: "reset" });
    past.heard = [];
  } else if (dataset.preset) player.set({ monitor: { ...monitor, ...JSON.parse(dataset.preset) } });
  else if (dataset.blind !== undefined) {
    blind = !blind;
    player.send({ do: "blind", on: blind });
    player.set(blind ? { comparing: true, active: "x" } : { active: "a" });
    if (blind) find(".score").textContent = "";
    if (blind && !player.playing) {
      await player.play();
      player.send({ do: "blind", on: true });
    }
  } else if (dataset.answer) player.send({ do: "answer", side: dataset.answer });
  else if (dataset.pair) player.monitor({ virtual_pair: { ...monitor.virtual_pair, left_deg: +dataset.pair, right_deg: -dataset.pair } });
  else if (dataset.correct !== undefined) {
    const chosen = find('[data-bind="monitor.correction.response"]');
    if (!monitor.correction?.response && !chosen.value) chosen.selectedIndex = 1;
    put("monitor.correction", monitor.correction?.response ? null : { response: chosen.value });
  } else if (button.matches(".pole")) {
    const row = button.closest("tr");
    speaker(+row.dataset.channel, { inverted: button.getAttribute("aria-pressed") !== "true" });
  } else if (dataset.testOne !== undefined) {
    const channel = +button.closest("tr").dataset.channel + 1;
    const on = get("monitor.loudspeakers.test_channel") !== channel;
    player.monitor({ through: "loudspeakers", loudspeakers: { ...monitor.loudspeakers, test: on ? "noise" : "off", test_channel: on ? channel : null } });
    if (on && !player.playing) player.play();
  } else if (dataset.choose === "monitor.loudspeakers.test") {
    player.monitor({ through: button.value === "off" ? monitor.through : "loudspeakers", loudspeakers: { ...monitor.loudspeakers, test: button.value, test_channel: null } });
  } else if (dataset.calibrate) {
    button.disabled = true;
    const body = new FormData();
    body.append("loudspeakers", JSON.stringify(monitor.loudspeakers ?? {}));
    const answer = await fetch(dataset.calibrate, { method: "POST", headers: csrf(), body });
    button.disabled = false;
    if (!answer.ok) return say("The room could not be measured; choose a layout and try again.", true);
    const { loudspeakers, told } = await answer.json();
    board.mended = loudspeakers;
    find(".told").replaceChildren(...told.map((words) => Object.assign(document.createElement("li"), { textContent: words })));
    find("[data-apply]").hidden = false;
  } else if (dataset.apply !== undefined) {
    player.monitor({ loudspeakers: { ...monitor.loudspeakers, ...board.mended, test: "off", test_channel: null } });
    say("The loudspeakers are set. Walk the test signal to hear that each is where it should be.");
  }
});

document.addEventListener("change", async ({ target: field }) => {
  if (!board?.contains(field)) return;
  if (field.matches("[data-room]")) put("monitor.binaural", { ...player.state.monitor.binaural, room: field.checked ? {} : null });
  else if (field.matches("[data-worn]")) player.monitor({ worn: field.checked });
  else if (field.matches(".output")) {
    const number = parseInt(field.value, 10);
    if (number >= 1 && number <= 64) speaker(+field.closest("tr").dataset.channel, { output: number });
    else speakers();
  } else if (field.dataset.bring && field.files.length) {
    const body = new FormData();
    body.append("file", field.files[0]);
    const answer = await fetch(field.dataset.bring, { method: "POST", headers: { ...csrf(), "HX-Request": "true" }, body });
    if (answer.ok) {
      const { name } = await answer.json();
      say(`${name} is here.`);
      document.dispatchEvent(new CustomEvent("mix-changed", { detail: {} }));
    } else {
      const said = JSON.parse(answer.headers.get("HX-Trigger") ?? "{}").say?.message;
      say(said ?? "This file could not be taken in.", true);
    }
    field.value = "";
  }
});
for (const kind of ["commit", "dragging"]) {
  document.addEventListener(kind, ({ target: input }) => {
    const [first, i, name] = input.dataset?.bind?.split(".") ?? [];
    if (first === "speaker") speaker(+i, { [name]: numberOf(input) });
  });
}
document.addEventListener("submit", (event) => {
  if (event.target.matches("[data-keep-preset]")) event.target.elements.monitor.value = JSON.stringify(player.state.monitor);
}, true);
document.addEventListener("pointerdown", (event) => {
  if (!event.target.matches?.('[data-draw="story"]')) return;
  const span = event.target.getBoundingClientRect();
  player.jump(((event.clientX - span.left - 30) / (span.width - 30)) * player.frames());
});

// --- in step --------------------------------------------------------------------------------

player.addEventListener("reading", ({ detail: { readings } }) => {
  if (!board || readings.blind) return;
  if (board.querySelector('[data-draw="bands"]')) addBands(readings.bands);
  for (const side of ["a", "b"]) {
    const applied = board.querySelector(`[data-applied="${side}"]`);
    if (applied && readings.matched_db) applied.textContent = `${signed(readings.matched_db[side])} dB`;
  }
});
let turn = 0;
inStep(() => board && draw(turn++ % 3 !== 0));
player.addEventListener("transport", () => draw());
player.addEventListener("state", settings);
const status = () => {
  const { load, lead_ms } = player.status ?? {};
  if (board && load !== undefined) find(".load").textContent = `${Math.round(load * 100)} % of real time, ${lead_ms} ms ahead${player.gaps ? `, ${player.gaps} gaps` : ""}`;
};
player.addEventListener("status", status);
document.addEventListener("sources-loaded", settings);
document.addEventListener("htmx:afterSettle", () => {
  begin();
});
document.addEventListener("theme-changed", () => {
  const found = board;
  board = null;
  if (found) begin();
});
addEventListener("resize", () => draw());
begin();
