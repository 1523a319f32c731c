// Controls that set how one listens: they show the player's settings and write to them.
// data-bind="monitor.checks.mono" on inputs, selects and numbers; data-choose (a button of several),
// data-toggle (on or off), data-if="path:values" (shown only for some). `monitor_source` is the side that is heard.

import { player } from "./player.js";

const whole = (path) => path.replace(/^monitor_source\./, `monitor_sources.${player.side}.`);
export const get = (path) =>
  whole(path)
    .split(".")
    .reduce((part, name) => part?.[name], player.state);
export function put(path, value) {
  const [first, ...rest] = whole(path).split(".");
  const change = { [first]: structuredClone(player.state[first]) };
  let part = change;
  let name = first;
  for (const next of rest) {
    part = part[name] ??= {};
    name = next;
  }
  if (part[name] === value) return;
  part[name] = value;
  if (first === "monitor_sources" && name === "what" && value !== "mix" && !part.strip)
    part.strip = document.querySelector("[data-bind$='.strip']")?.options[0]?.value;
  player.set(change);
}

const MINUS = "\u2212";

// Show a number as it is held, unless it is being typed.
export function showNumber(input, number) {
  if (document.activeElement !== input) write(input, number);
}

function write(input, number) {
  const box = input.closest(".value");
  input.value = number.toFixed(+box.dataset.digits).replace("-", MINUS);
  input.dataset.sent = input.value;
  box.dispatchEvent(new Event("redraw", { bubbles: true }));
}

// The number that was set, held between its bounds and shown so; null where none was typed.
export function takeNumber(input) {
  const number = parseFloat(input.value.replace(MINUS, "-").replace(",", "."));
  if (!Number.isFinite(number)) return null;
  const { low, high } = input.closest(".value").dataset;
  const held = Math.min(Math.max(number, +low), +high);
  write(input, held);
  return held;
}
const fallback = {
  "monitor_source.what": "mix",
  "monitor_source.kinds": "all",
  "monitor.loudspeakers.test": "off",
  "monitor.level_db": 0,
};

export function showAll(root) {
  for (const element of root.querySelectorAll("[data-bind]")) {
    const value = get(element.dataset.bind);
    if (element.type === "checkbox") element.checked = value ?? "defaultOn" in element.dataset;
    else if (element.matches("select")) {
      const held = value ?? fallback[element.dataset.bind];
      if (held != null) element.value = held;
      if (element.selectedIndex < 0) element.selectedIndex = 0;
    } else {
      showNumber(element, +(value ?? element.closest(".value").dataset.default));
    }
  }
  for (const button of root.querySelectorAll("[data-choose]")) {
    const value = get(button.dataset.choose) ?? fallback[button.dataset.choose];
    button.setAttribute("aria-pressed", String(String(value) === button.value));
  }
  for (const button of root.querySelectorAll("[data-toggle]"))
    button.setAttribute("aria-pressed", String(Boolean(get(button.dataset.toggle))));
  for (const button of root.querySelectorAll("[data-switch]"))
    button.setAttribute("aria-pressed", String(get(button.dataset.switch) === button.dataset.on));
  for (const part of root.querySelectorAll("[data-if]")) {
    const [path, values] = part.dataset.if.split(":");
    part.hidden = !values.split(" ").includes(String(get(path) ?? fallback[path]));
  }
}

document.addEventListener("click", ({ target }) => {
  const button = target.closest?.("[data-choose], [data-toggle], [data-switch]");
  if (!button || button.disabled) return;
  const { choose, toggle, on, off, number } = button.dataset;
  if (choose) put(choose, number !== undefined ? +button.value : button.value);
  else if (toggle) put(toggle, !get(toggle));
  else put(button.dataset.switch, get(button.dataset.switch) === on ? off : on);
});
document.addEventListener("change", ({ target }) => {
  const path = target.dataset?.bind;
  if (!path) return;
  if (target.type === "checkbox") put(path, target.checked);
  else if (target.matches("select")) put(path, target.value || null);
});
const commit = ({ target }) => {
  if (!target.dataset?.bind || !target.matches(".number")) return;
  const number = takeNumber(target);
  if (number !== null) put(target.dataset.bind, number);
};
document.addEventListener("commit", commit);
document.addEventListener("dragging", commit);
