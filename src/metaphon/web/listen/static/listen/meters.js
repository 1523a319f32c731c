// The meters of the Listen workspace, drawn for the very samples that sound.

import { colour, past, signed, sized } from "./bar.js";
import { player } from "./player.js";

const FLOOR = -72;
let board = null;
let labels = () => [];
let colours = {};
let spectrogram = null;
const find = (selector) => board.querySelector(selector);

// Draw into a workspace from now on; `names` gives the labels of the channels that are heard.
export function drawInto(workspace, names) {
  board = workspace?.querySelector('[data-view="meters"]') ? workspace : null;
  labels = names;
  spectrogram = null;
  const wanted = ["ink", "quiet", "rule", "ground", "kelp", "coral", "raised"];
  colours = Object.fromEntries(wanted.map((name) => [name, colour(`--${name}`)]));
}

const live = () => (player.playing ? player.current?.readings : null);
function text(name, value) {
  const element = find(`[data-live="${name}"]`);
  if (element && element.textContent !== value) element.textContent = value;
}

// Bars and points at every turn, what the eye does not follow as fast at every third.
export function draw(slowly = false) {
  if (!board) return;
  const readings = live();
  const step = player.step;
  if (readings && !readings.blind && step) {
    drawLevels(step, readings);
    drawGoniometer(step);
    if (slowly) return;
    drawMatrix(readings.matrix);
    drawLoss(readings.loss, readings.loss_stereo);
    figures(step, readings);
  } else if (!player.playing) {
    drawLevels({ peak: [], rms: [] }, { hold: [], overs: [] });
    drawGoniometer(null);
    drawMatrix([]);
    drawLoss([], []);
  }
  drawBands();
  drawStory();
}

function figures(step, readings) {
  for (const name of ["momentary", "short", "integrated", "range"])
    text(name, signed(readings[name]));
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
  find(".spread").setAttribute(
    "r",
    String(Math.max(6, (Math.acos(Math.min(length, 1)) / Math.PI) * 100)),
  );
  text(
    "direction",
    `${signed(azimuth_deg, 0)}\u00b0, ${signed(elevation_deg, 0)}\u00b0  r ${length.toFixed(2)}`,
  );
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
function drawGoniometer(step) {
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
  pen.drawImage(traced(step, width, height, radius), 0, 0, width, height);
}

// The trace of what sounds; what sounded before fades beneath it.
const still = matchMedia("(prefers-reduced-motion: reduce)");
let trace = null;
let lastStep = null;
function traced(step, width, height, radius) {
  const ratio = devicePixelRatio;
  const [wide, high] = [Math.round(width * ratio), Math.round(height * ratio)];
  if (!trace || trace.width !== wide || trace.height !== high)
    trace = new OffscreenCanvas(Math.max(wide, 1), Math.max(high, 1));
  const pen = trace.getContext("2d");
  pen.setTransform(ratio, 0, 0, ratio, 0, 0);
  if (!step || still.matches) pen.clearRect(0, 0, width, height);
  else {
    pen.globalCompositeOperation = "destination-out";
    pen.fillStyle = "rgb(0 0 0 / 14%)";
    pen.fillRect(0, 0, width, height);
    pen.globalCompositeOperation = "source-over";
  }
  if (!step || (step === lastStep && !still.matches)) return trace;
  lastStep = step;
  const points = Int8Array.from(atob(step.trace), (letter) => letter.charCodeAt(0));
  // quiet sound is drawn larger, down to -24 dBFS
  const scale = (radius * 0.9 * step.top) / 127 / Math.max(step.top, 0.06);
  const at = (n) => [
    width / 2 + (points[n + 1] - points[n]) * Math.SQRT1_2 * scale,
    height / 2 - (points[n] + points[n + 1]) * Math.SQRT1_2 * scale,
  ];
  pen.lineWidth = 1.2;
  for (const [hue, opposed] of [
    [colours.kelp, false],
    [colours.coral, true],
  ]) {
    pen.strokeStyle = hue;
    pen.beginPath();
    for (let n = 2; n < points.length; n += 2) {
      if (points[n] * points[n + 1] < 0 !== opposed) continue;
      pen.moveTo(...at(n - 2));
      pen.lineTo(...at(n));
    }
    pen.stroke();
  }
  return trace;
}

// Columns for each stretch heard, one for two steps: kelp in phase, dark unrelated, coral out of phase; pale where it is silent.
export function addBands(bands, steps) {
  if (!board) return;
  if (!spectrogram) spectrogram = new OffscreenCanvas(640, bands.length);
  const pen = spectrogram.getContext("2d");
  const columns = Math.max(Math.round(steps / 2), 1);
  pen.drawImage(spectrogram, -columns, 0);
  bands.forEach((value, i) => {
    pen.fillStyle = value == null ? colours.raised : shade(value);
    pen.fillRect(640 - columns, bands.length - 1 - i, columns, 1);
  });
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
  for (const [words, hz] of [
    ["10k", 10000],
    ["1k", 1000],
    ["100", 100],
  ]) {
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
    pen.fillRect(
      left,
      height - 14 - (i + 1) * each,
      (Math.min(value, most) / most) * (width - left),
      Math.max(each - 1, 1),
    );
    if (stereo[i] == null) return;
    pen.fillStyle = colours.ink;
    pen.fillRect(
      left + (Math.min(Math.max(stereo[i], 0), most) / most) * (width - left) - 1,
      height - 14 - (i + 1) * each,
      2,
      Math.max(each - 1, 1),
    );
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
    if (each >= 11)
      pen.fillText((names[i] ?? "").replace("-", "\u2212"), left - 5, i * each + each / 2 + 4);
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
  for (let i = 0; i < past.heard.length; i++)
    heard.push((last = past.heard[i]?.m ?? (past.heard[i + 1] ? last : null)));
  line(heard, colours.kelp);
  pen.fillStyle = colours.ink;
  pen.fillRect(left + (player.position / frames) * (width - left), 0, 1, height);
}
