// A space: its decay dragged by band, its spectrogram drawn, and what is being loaded said.

import "./then.js";
import { player } from "../listen/player.js";
import { release, send, tryOut } from "../shell/edit.js";
import { fetchText } from "../shell/fetch_text.js";

const HIGH = 200;
const LINE_MS = 60; // from one line that is asked for to the next
const FINE = 1.02; // a press of an arrow key
const COARSE = 1.15;
const board = () => document.querySelector("#tail .bands");
let drag = null; // {handle, seconds}
let asked = null;

const ends = () => JSON.parse(board().dataset.ends);
const yAt = (seconds) => {
  const [low, high] = ends();
  return (1 - Math.log(seconds / low) / Math.log(high / low)) * HIGH;
};
const secondsAt = (y) => {
  const [low, high] = ends();
  return low * (high / low) ** (1 - y / HIGH);
};

// What a handle sets for so many seconds, within what its parameter may be.
function commandOf({ dataset: { set, unit, low, high } }, seconds) {
  const [strip, path] = set.split(" ");
  const value = Math.min(Math.max(seconds / +unit, +low), +high);
  return { kind: "set", strips: [strip], path, value: +value.toPrecision(3) };
}

function draw(handle, seconds) {
  const [low, high] = ends();
  const shown = Math.min(Math.max(seconds, low), high);
  handle.setAttribute("transform", `translate(${handle.dataset.x} ${yAt(shown)})`);
  handle.setAttribute("aria-valuetext", `${shown.toFixed(2)} s`);
  handle.setAttribute("aria-valuenow", shown.toFixed(2));
}

// The line as it would be set, the server's.
async function drawLine() {
  const command = asked;
  const line = board()?.querySelector("path.set");
  if (line) {
    const said = encodeURIComponent(JSON.stringify(command));
    const drawn = await fetchText(`${board().dataset.line}&command=${said}`, {
      headers: { "HX-Request": "true" },
    });
    if (drawn !== null && line.isConnected) line.setAttribute("d", drawn);
  }
  if (asked !== command) setTimeout(drawLine, LINE_MS);
  else asked = null;
}

function attempt(handle, seconds) {
  const command = commandOf(handle, seconds);
  draw(handle, command.value * +handle.dataset.unit);
  tryOut(command, handle.dataset.set);
  const idle = asked === null;
  asked = command;
  if (idle) setTimeout(drawLine, LINE_MS);
}

document.addEventListener("pointerdown", (event) => {
  const handle = event.target.closest?.("#tail .handle[tabindex]");
  if (!handle || event.button) return;
  event.preventDefault();
  handle.focus();
  handle.setPointerCapture(event.pointerId);
  drag = { handle, seconds: +handle.dataset.seconds, moved: false };
});
document.addEventListener("pointermove", (event) => {
  if (!drag) return;
  const { d, f } = board().querySelector("svg").getScreenCTM();
  drag.seconds = secondsAt(Math.min(Math.max((event.clientY - f) / d, 0), HIGH));
  drag.moved = true;
  attempt(drag.handle, drag.seconds);
});
function drop(kept) {
  if (!drag) return;
  const { handle, seconds, moved } = drag;
  drag = null;
  if (kept && moved) send(commandOf(handle, seconds), handle, handle.dataset.set);
  else {
    release(handle.dataset.set);
    draw(handle, +handle.dataset.seconds);
  }
}
document.addEventListener("pointerup", () => drop(true));
document.addEventListener("pointercancel", () => drop(false));
document.addEventListener("keydown", (event) => {
  if (event.key === "Escape") drop(false);
  const handle = event.target.closest?.("#tail .handle[tabindex]");
  const by = { ArrowUp: 1, ArrowRight: 1, ArrowDown: -1, ArrowLeft: -1 }[event.key];
  if (!handle || !by) return;
  event.preventDefault();
  event.stopPropagation();
  const seconds = +handle.dataset.seconds * (event.shiftKey ? FINE : COARSE) ** by;
  handle.dataset.seconds = seconds; // the next press goes on from here, drawn anew or not
  draw(handle, seconds);
  send(commandOf(handle, seconds), handle, handle.dataset.set);
});

// Levels as colours between the ground and the ink, the strongest brightest.
function drawSpectrogram() {
  const canvas = document.querySelector("#tail canvas[data-spectrogram]");
  if (!canvas || canvas.dataset.drawn) return;
  canvas.dataset.drawn = "true";
  const levels = Uint8Array.from(atob(canvas.dataset.spectrogram), (c) => c.charCodeAt(0));
  const style = getComputedStyle(canvas);
  const part = (name) =>
    (style.getPropertyValue(name).trim().slice(1).match(/../g) ?? []).map((hex) =>
      parseInt(hex, 16),
    );
  const stops = [part("--ground"), part("--slate"), part("--brass"), part("--ink")];
  const context = canvas.getContext("2d");
  const image = context.createImageData(canvas.width, canvas.height);
  levels.forEach((level, n) => {
    const at = (level / 255) * (stops.length - 1);
    const low = Math.min(Math.floor(at), stops.length - 2);
    for (let c = 0; c < 3; c++)
      image.data[4 * n + c] = stops[low][c] + (stops[low + 1][c] - stops[low][c]) * (at - low);
    image.data[4 * n + 3] = 255;
  });
  context.putImageData(image, 0, 0);
}

// While a response is made ready the one before it sounds on.
function sayLoading() {
  const said = document.querySelector("#tail .loading");
  if (!said) return;
  const names = (player.playing && player.current?.readings.loading) || [];
  const words = names.length ? `Loading ${names.join(", ").replaceAll("_", " ")}` : "";
  if (said.textContent !== words) said.textContent = words;
}

setInterval(sayLoading, 100);
document.addEventListener("htmx:afterSettle", drawSpectrogram);
drawSpectrogram();
