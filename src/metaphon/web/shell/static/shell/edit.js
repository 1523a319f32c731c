// One edit from the hand to the server. A control says what it sets: data-set="STRIP PATH", or data-command with a
// command as JSON, completed by its own value (data-field names it) or by the fields of its form. The command is
// heard at once where something plays, and sent to be kept; the very same one both times.

import { player } from "../listen/player.js";
import { chosenStrips, movesGroups } from "./choice.js";
import { commandOf, typed } from "./command.js";
import { seen } from "./moved.js";
import { keepNudged } from "./nudge.js";

const WAIT_MS = 30; // between two trials under the hand
const pending = new Map(); // edits on their way: what control they came from

const rootOf = (element) =>
  element.closest("[data-edit-url]") ?? document.querySelector("[data-edit-url]");
const controlOf = (element) => element.dataset.set ?? element.dataset.command ?? element.id;
const context = (element) => ({
  chosen: chosenStrips(),
  groups: movesGroups(),
  within: Boolean(element.closest("[data-with-chosen]")) && !element.closest("[data-alone]"),
});

// Try a command out while the hand moves: heard, not kept.
let waiting = null;
export function tryOut(command, control) {
  if (!player.playing) return;
  if (!waiting) {
    setTimeout(() => {
      if (waiting) player.preview(waiting.command, waiting.control);
      waiting = null;
    }, WAIT_MS);
  }
  waiting = { command: seen(command), control };
}

// Send a command to be kept. Requests go out one after the other, in the order in which they were made.
export function send(made, element, control = controlOf(element)) {
  const command = seen(made);
  keepNudged();
  const root = rootOf(element);
  const edit = `${Date.now().toString(36)}${Math.random().toString(36).slice(2, 10)}`;
  if (waiting?.control === control) waiting = null;
  player.preview(command, control, edit);
  pending.set(edit, { control, element });
  const { editUrl, editTarget, editSwap = "none" } = root.dataset;
  // each request has an element of its own, so that none waits for or replaces another
  const carrier = document.body.appendChild(
    Object.assign(document.createElement("span"), { hidden: true }),
  );
  const target = editTarget ? document.querySelector(editTarget) : root;
  const request = htmx.ajax("POST", editUrl, {
    source: carrier,
    target,
    swap: editSwap,
    values: { command: JSON.stringify(command), edit },
  });
  return request.finally(() => carrier.remove());
}

// The hand let go without an edit, or the edit was refused: what is kept is heard again.
export function release(control) {
  if (waiting?.control === control) waiting = null;
  player.release(control);
}

function sendFrom(element, value) {
  const command = commandOf(
    element.dataset,
    value,
    context(element),
    element.matches("form") ? fields(element) : {},
  );
  if (command) send(command, element);
}

// The fields of a form by name: numbers where they are typed as decimals, nothing where they are empty.
function fields(form) {
  const found = {};
  for (const field of form.elements) {
    if (!field.name) continue;
    if (field.type === "checkbox") found[field.name] = field.checked;
    else if (field.inputMode !== "decimal") found[field.name] = field.value;
    else if (field.value.trim()) found[field.name] = typed(field.value);
  }
  return found;
}

const edits = "[data-set], [data-command]";
document.addEventListener("commit", ({ target }) => {
  if (target.matches(edits)) sendFrom(target, target.value);
});
document.addEventListener("dragging", ({ target }) => {
  if (!target.matches(edits)) return;
  const number = typed(target.value);
  if (typeof number === "number")
    tryOut(commandOf(target.dataset, number, context(target), {}), controlOf(target));
});
document.addEventListener("released", ({ target }) => {
  if (target.matches(edits)) release(controlOf(target));
});
document.addEventListener("change", ({ target }) => {
  if (!target.matches?.(`select:is(${edits}), input:is(${edits})`) || target.matches(".number"))
    return;
  if (target.type === "checkbox") return sendFrom(target);
  if (target.matches("select") && !target.value && target.dataset.field !== "to") return; // the menu's own title
  sendFrom(target, target.value);
  if (target.matches("select") && target.options[0]?.value === "") target.value = "";
});
document.addEventListener("click", ({ target }) => {
  const button = target.closest?.(`button:is(${edits}, [data-set-chosen])`);
  if (!button || button.disabled) return;
  if (button.dataset.setChosen) {
    const on = button.getAttribute("aria-pressed") !== "true";
    button.setAttribute("aria-pressed", String(on));
    return send(
      { kind: "set", strips: chosenStrips(), path: button.dataset.setChosen, value: on },
      button,
      `chosen ${button.dataset.setChosen}`,
    );
  }
  sendFrom(button, button.hasAttribute("value") ? button.value : undefined);
});
document.addEventListener("submit", (event) => {
  const form = event.target;
  if (!form.matches("[data-command]")) return;
  event.preventDefault();
  sendFrom(form);
  if (form.matches("[popover]")) form.hidePopover();
});

for (const name of ["htmx:responseError", "htmx:sendError"]) {
  document.addEventListener(name, ({ detail }) => {
    const edit = detail.requestConfig?.parameters?.edit;
    const one = pending.get(edit);
    if (!one) return;
    release(one.control);
    one.element.closest?.(".value")?.classList.add("refused");
  });
}
document.addEventListener("htmx:afterRequest", ({ detail }) =>
  pending.delete(detail.requestConfig?.parameters?.edit),
);
