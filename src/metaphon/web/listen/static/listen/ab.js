// Side A is the mix as it is, side B the same with one command tried, at one loudness.
// Markup: button[data-ab], its value the command as JSON. A second press changes sides; the chip in the bar ends it.

import { player } from "./player.js";

const command = (button) => JSON.stringify(JSON.parse(button.dataset.ab));
const compares = (button) =>
  player.state.comparing && player.state.monitor_sources.b.trying === command(button);

function press(button) {
  const { active, monitor_sources } = player.state;
  if (compares(button)) player.set({ active: active === "a" ? "b" : "a" });
  else {
    const { trying, ...now } = monitor_sources.a;
    const b = { ...now, trying: command(button) };
    player.set({ monitor_sources: { a: now, b }, comparing: true, matched: true, active: "b" });
  }
  if (!player.playing) player.play();
}

function show() {
  for (const button of document.querySelectorAll("[data-ab]")) {
    button.dataset.words ??= button.textContent.trim();
    const on = compares(button);
    const words = on ? `Heard: ${player.state.active.toUpperCase()}` : button.dataset.words;
    if (button.textContent.trim() !== words) button.textContent = words;
    button.setAttribute("aria-pressed", String(on && player.state.active === "b"));
  }
}

document.addEventListener("click", ({ target }) => {
  const button = target.closest?.("[data-ab]");
  if (button) press(button);
});
player.addEventListener("state", show);
document.addEventListener("htmx:afterSettle", show);
