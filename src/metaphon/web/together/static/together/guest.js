// Who listens to a mix by a link: play, a place along it, and what it is heard on.

import { player } from "../listen/player.js";
import { shown } from "../listen/timecode.js";

const page = document.getElementById("listen");
const [play, now, along, on, said] = [".play", ".now", ".along", ".on", ".said"].map((one) =>
  page.querySelector(one),
);
const frames = +page.dataset.frames;

if (play) start();

function start() {
  player.start({
    address: page.dataset.live,
    rate: +page.dataset.rate,
    frames: () => frames,
    key: `guest:${page.dataset.live}`,
  });
  const held = player.state.monitor_sources.a.target;
  if ([...on.options].some((option) => option.value === held)) on.value = held;
  choose();

  play.addEventListener("click", () => player.toggle());
  on.addEventListener("change", choose);
  along.addEventListener("change", () => player.jump(+along.value));
  along.addEventListener("input", () => (now.value = time(+along.value)));
  player.addEventListener("transport", () => {
    play.textContent = player.playing ? "Pause" : "Play";
    if (player.playing) {
      said.textContent = "";
      requestAnimationFrame(turn);
    }
    place();
  });
  player.addEventListener("said", ({ detail }) => (said.textContent = detail));
  player.addEventListener("state", () => {
    if (player.unheard)
      said.textContent = "This computer has fewer outputs; some loudspeakers are not heard.";
  });
}

function choose() {
  player.set({ monitor_sources: { a: { target: on.value }, b: {} } });
}

const time = (frame) => shown(frame, player.rate, "clock");

function place() {
  if (along.matches(":active")) return; // under the hand
  along.value = player.position;
  now.value = time(player.position);
}

function turn() {
  place();
  if (player.playing) requestAnimationFrame(turn);
}
