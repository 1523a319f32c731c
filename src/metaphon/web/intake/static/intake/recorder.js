// A simulated recorder whose timecode runs, and listening that follows it: it plays where the timecode says, begins
// and ends with it, and jumps where it has come off by more than a frame or two.

import { player } from "../listen/player.js";
import { RATES, read, shown } from "../listen/timecode.js";

const EVERY_MS = 100;
const OFF_S = 0.08; // what a listener comes off by before it jumps
const LEAD_S = 0.25; // after a jump, before it is looked at again
const RATE = 48000; // that times are counted in here

let running = null; // {from: seconds of timecode, since: when it began}
let jumped = 0;

const form = () => document.querySelector("form.timecode");
const frames = () => form().elements.rate.value;
const start = () => read(form().elements.start.value, RATE, frames());
const ahead = () => (parseFloat(form().elements.frames.value) || 0) / RATES[frames()][0];
const now = () => running.from + (performance.now() - running.since) / 1000;

function show() {
  const part = form()?.querySelector("[data-recorder]");
  if (!part) return;
  const button = part.querySelector("[data-runs]");
  button.setAttribute("aria-pressed", String(Boolean(running)));
  button.textContent = running ? "Stop it" : "Run it";
  const at = running ? now() : (start() ?? 0) / RATE + ahead();
  part.querySelector("output").textContent = shown(Math.round(at * RATE), RATE, frames());
}

// Listening goes where the recorder's timecode says that it is, by the timecode of the mix.
function follow() {
  if (!form()) running = null;
  if (!running) return;
  show();
  if (!form().querySelector("[data-follows]").checked) return;
  const wanted = now() - (start() ?? 0) / RATE;
  if (wanted < 0) return;
  if (wanted * player.rate > player.frames()) {
    running = null;
    player.pause();
    return show();
  }
  const off = Math.abs(player.position / player.rate - wanted);
  const settled = performance.now() - jumped > LEAD_S * 1000;
  if (!player.playing || (off > OFF_S && settled && player.current)) {
    player.jump(wanted * player.rate);
    jumped = performance.now();
    if (!player.playing) player.play();
  }
}
setInterval(follow, EVERY_MS);

document.addEventListener("click", ({ target }) => {
  if (!target.closest?.("[data-runs]")) return;
  const first = start();
  if (running) {
    running = null;
    if (form().querySelector("[data-follows]").checked) player.pause();
  } else if (first === null) {
    document.dispatchEvent(
      new CustomEvent("say", {
        detail: { message: "Type the first timecode as 01:00:00:00.", refused: true },
      }),
    );
  } else {
    const at = player.position / player.rate;
    running = { from: first / RATE + ahead() + at, since: performance.now() };
  }
  show();
});
document.addEventListener("input", ({ target }) => target.closest?.("form.timecode") && show());
document.addEventListener("htmx:afterSettle", show);
show();
