// A receiver as a listener has it: a programme, and what may be changed of it. All of it is part of what is heard
// (alternative, personal), so it goes with the listener and never into the mix.

import { showAll, showNumber, takeNumber } from "../listen/bind.js";
import { player } from "../listen/player.js";

const part = () => document.getElementById("receiver");
const told = () => JSON.parse(document.getElementById("receiver-told").textContent);
const heard = () => player.state.monitor_sources.a;
const changes = () => heard().personal ?? [];

// Whether a strip is on: as the listener wants it, as the programme has it, or as the mix does.
function isOn(strip) {
  const own = changes().find((one) => one.strip === strip)?.heard;
  if (own != null) return own;
  const { in_mix, heard: programmes } = told();
  const said = programmes[heard().alternative ?? ""]?.[strip];
  return said === "heard" || (said !== "silent" && in_mix[strip]);
}

function change(...wanted) {
  const personal = structuredClone(changes());
  for (const { strip, ...values } of wanted) {
    let one = personal.find((each) => each.strip === strip);
    if (!one) personal.push((one = { strip }));
    Object.assign(one, values);
  }
  hear({ personal });
}

function hear(more) {
  player.set({ comparing: false, active: "a" });
  const { target = "0+2+0", alternative, personal } = heard();
  player.setMonitorSource({ target, alternative, personal, ...more }, "a");
  if (!player.playing) player.play();
}

function show() {
  const root = part();
  if (!root) return;
  const now = heard().alternative ?? "";
  for (const button of root.querySelectorAll("[data-programme]"))
    button.setAttribute("aria-pressed", String(button.dataset.programme === now));
  for (const button of root.querySelectorAll("[data-one-of]"))
    button.setAttribute("aria-pressed", String(isOn(button.dataset.strip)));
  for (const button of root.querySelectorAll("[data-on]")) {
    const on = isOn(button.dataset.on);
    button.setAttribute("aria-pressed", String(on));
    button.textContent = on ? "On" : "Off";
  }
  for (const input of root.querySelectorAll("[data-personal]")) {
    const [strip, name] = input.dataset.personal.split(" ");
    const value = changes().find((one) => one.strip === strip)?.[name] ?? 0;
    showNumber(input, value);
  }
  showAll(root);
}

document.addEventListener("click", ({ target }) => {
  if (!part()?.contains(target)) return;
  const button = target.closest("button");
  if (!button) return;
  const { programme, oneOf, strip, on } = button.dataset;
  if (programme !== undefined) hear({ alternative: programme || undefined, personal: [] });
  else if (oneOf !== undefined) {
    const all = [...part().querySelectorAll(`[data-one-of="${CSS.escape(oneOf)}"]`)];
    const chosen = all.map((one) => one.dataset.strip);
    change(...chosen.map((one) => ({ strip: one, heard: one === strip })));
  } else if (on !== undefined) change({ strip: on, heard: !isOn(on) });
  else if ("asMade" in button.dataset) hear({ personal: [] });
});
const moved = ({ target }) => {
  if (!target.dataset?.personal) return;
  const [strip, name] = target.dataset.personal.split(" ");
  const number = takeNumber(target);
  if (number === null) return show();
  change({ strip, [name]: number });
};
document.addEventListener("commit", moved);
document.addEventListener("dragging", moved);
for (const name of ["state", "transport"]) player.addEventListener(name, show);
document.addEventListener("htmx:afterSettle", show);
show();
