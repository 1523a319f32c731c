// Buttons that change what is heard of the mix and how: data-listen, what to set of the source, and data-through,
// what to set of the monitor, both as JSON. One that is heard already pauses.

import { player } from "./player.js";

const wanted = (button) => JSON.parse(button.dataset.listen);
const through = (button) => JSON.parse(button.dataset.through ?? "{}");
const holds = (state, part) =>
  Object.entries(part).every(
    ([name, value]) => JSON.stringify(state[name] ?? "") === JSON.stringify(value),
  );
const isHeard = (button) =>
  holds(player.state.monitor_sources.a, wanted(button)) &&
  holds(player.state.monitor, through(button));

function show() {
  for (const button of document.querySelectorAll("[data-listen]"))
    button.setAttribute("aria-pressed", String(player.playing && isHeard(button)));
}

document.addEventListener("click", ({ target }) => {
  const button = target.closest?.("[data-listen]");
  if (!button) return;
  if (player.playing && isHeard(button)) return player.pause();
  const { target: now = "0+2+0", alternative } = player.state.monitor_sources.a;
  player.set({
    comparing: false,
    active: "a",
    monitor: { ...player.state.monitor, ...through(button) },
  });
  player.setMonitorSource({ target: now, alternative, ...wanted(button) }, "a");
  if (!player.playing) player.play();
});
for (const name of ["state", "transport"]) player.addEventListener(name, show);
document.addEventListener("htmx:afterSettle", show);
show();
