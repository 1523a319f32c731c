// Who else is in this mix, and listening along with one of them: the same place at the same time, the same thing heard.
// Each follows whom they like, or nobody; who is followed need do nothing.

import { player } from "../listen/player.js";
import { around } from "./around.js";
import "./hands.js";
import "./remarks.js";

const EVERY_MS = 100;
const AGAIN_MS = 500; // that a place is told while it plays
const OFF_S = 0.012; // what two come off by before one goes after the other
const NUDGED_S = 0.2; // up to here by a few samples left out or waited for, beyond it by a jump
const SETTLED_MS = 800; // after that, before it is looked at again
const LOOKS = 5; // their median is what two are off by

const box = document.getElementById("others");
let others = [];
let followed = null; // the key of an open page
let theirs = null; // what was last heard of it
let lag_s = 0.15; // from a jump to its sound, learnt
let moved = -Infinity; // when it last went after the other
let offs = [];
let applying = false;

around.addEventListener("state", ({ detail }) => {
  others = detail.others;
  if (followed && !others.some(({ keys }) => keys.includes(followed))) leave();
  draw();
});
function draw() {
  box.replaceChildren(
    ...others.map(({ name, places, keys }) => {
      const button = document.createElement("button");
      const on = keys.includes(followed);
      button.className = "other";
      button.textContent = [...name].slice(0, 2).join("");
      button.dataset.follow = keys.at(-1);
      button.setAttribute("aria-pressed", String(on));
      button.setAttribute("aria-label", `Listen along with ${name}`);
      const where = [name, places.join(", ")].filter(Boolean).join(": ");
      button.title = `${where}. ${on ? "Press to listen by yourself" : "Press to listen along"}`;
      return button;
    }),
  );
}
document.addEventListener("click", ({ target }) => {
  const button = target.closest?.("[data-follow]");
  if (!button) return;
  if (button.getAttribute("aria-pressed") === "true") return leave();
  followed = button.dataset.follow;
  theirs = null;
  around.tell({ follow: followed });
  draw();
});
function leave() {
  followed = null;
  theirs = null;
  draw();
}

// -- telling others

const heard = () => {
  const { monitor_sources, comparing, active, loop, monitor } = player.state;
  const { checks, silent, alone } = monitor;
  return { monitor_sources, comparing, active, loop, monitor: { checks, silent, alone } };
};
let told = 0;
function tell() {
  if (!others.length) return;
  told = performance.now();
  around.tell({
    heard: {
      playing: player.playing && Boolean(player.current),
      at_s: player.exactly / player.rate,
      when_ms: around.now(),
      state: heard(),
    },
  });
}
for (const name of ["transport", "state"])
  player.addEventListener(name, () => !applying && setTimeout(tell, 60));
around.addEventListener("heard", ({ detail }) => {
  if (detail.heard.asks) return tell(); // somebody has begun to follow
  if (detail.by !== followed) return;
  theirs = detail.heard;
  take();
  follow();
});

// -- following

const same = (one, other) => JSON.stringify(one) === JSON.stringify(other);
function take() {
  if (same(heard(), theirs.state)) return;
  applying = true;
  const { monitor, ...rest } = theirs.state;
  player.set({ ...rest, monitor: { ...player.state.monitor, ...monitor } });
  applying = false;
}
function follow() {
  if (!followed) {
    if (player.playing && performance.now() - told > AGAIN_MS) tell();
    return;
  }
  if (!theirs) return;
  if (!theirs.playing) {
    if (player.playing) player.pause();
    if (Math.abs(player.position / player.rate - theirs.at_s) > OFF_S) go(theirs.at_s);
    return;
  }
  const wanted_s = theirs.at_s + (around.now() - theirs.when_ms) / 1000;
  if (!player.playing) {
    go(wanted_s + lag_s);
    player.play();
    moved = performance.now();
    return;
  }
  if (!player.current || performance.now() - moved < SETTLED_MS) {
    offs = [];
    return;
  }
  offs = [...offs.slice(1 - LOOKS), wanted_s - player.exactly / player.rate];
  if (offs.length < LOOKS) return;
  const off_s = offs.toSorted((a, b) => a - b)[LOOKS >> 1];
  if (Math.abs(off_s) < OFF_S) return;
  if (Math.abs(off_s) < NUDGED_S) player.nudge(off_s * player.rate);
  else {
    if (Math.abs(off_s) < 1) lag_s = Math.min(Math.max(lag_s + off_s, 0), 1); // as the last jump told
    go(wanted_s + lag_s);
  }
  moved = performance.now();
}
function go(at_s) {
  applying = true;
  player.jump(at_s * player.rate);
  applying = false;
}
setInterval(follow, EVERY_MS);
