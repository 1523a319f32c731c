// A number that is typed, dragged along its scale, nudged by the arrow keys and reset by double-click.
// Markup: .value[data-low][data-high][data-step][data-default] > input.number + svg (drawn 0 to 100 wide).

const MINUS = "\u2212";
let swapping = false; // while a redraw takes the old out, in one turn

const numberOf = (text) => parseFloat(text.replace(MINUS, "-").replace(",", "."));
const parts = (box) => ({
  input: box.querySelector("input.number"),
  low: +box.dataset.low,
  high: +box.dataset.high,
  step: +box.dataset.step,
  reset: +box.dataset.default,
  digits: +box.dataset.digits,
  log: box.dataset.scale === "log",
});
const format = (value, digits) => {
  const text = value.toFixed(digits);
  return +text === 0 ? text.replace("-", "") : text.replace("-", MINUS);
};
// Gains run from silence to +12 dB; the scale gives its length to the range that is used.
const place = (value, low, high, log) => {
  if (log) return (Math.log(value / low) / Math.log(high / low)) * 100;
  if (low === -120) return value <= -60 ? 0 : ((value + 60) / (high + 60)) * 100;
  return ((value - low) / (high - low)) * 100;
};
const valueAt = (part, low, high, log) => {
  if (log) return low * (high / low) ** Math.min(Math.max(part, 0), 1);
  return low === -120 ? (part <= 0 ? low : -60 + part * (high + 60)) : low + part * (high - low);
};

function draw(box) {
  const { input, low, high, reset, log } = parts(box);
  const number = numberOf(input.value);
  if (!Number.isFinite(number)) return;
  const at = place(Math.min(Math.max(number, low), high), low, high, log);
  const home = place(reset, low, high, log);
  const set = (selector, x1, x2) => {
    const line = box.querySelector(selector);
    line.setAttribute("x1", x1);
    line.setAttribute("x2", x2);
  };
  set(".from", home, at);
  set(".at", at, at);
}

function set(box, value) {
  const { input, low, high, step, digits } = parts(box);
  const held = Math.min(Math.max(value, low), high);
  input.value = format(Math.round(held / step) * step, digits);
  draw(box);
}

function commit(box) {
  const { input } = parts(box);
  box.pending = 0;
  box.classList.remove("refused");
  if (input.value === input.dataset.sent)
    return input.dispatchEvent(new CustomEvent("released", { bubbles: true }));
  input.dataset.sent = input.value;
  input.dispatchEvent(new CustomEvent("commit", { bubbles: true }));
}

document.addEventListener("keydown", (event) => {
  const box = event.target.closest?.(".value");
  if (!box || event.target.tagName !== "INPUT") return;
  const { input, step } = parts(box);
  const size = step * (event.shiftKey ? 10 : 1);
  if (event.key === "ArrowUp" || event.key === "ArrowDown") {
    event.preventDefault();
    set(box, numberOf(input.value) + (event.key === "ArrowUp" ? size : -size));
    clearTimeout(box.pending);
    box.pending = setTimeout(() => commit(box), 350);
  } else if (event.key === "Enter") {
    event.preventDefault();
    commit(box);
  } else if (event.key === "Escape") {
    input.value = input.dataset.sent ?? input.defaultValue;
    draw(box);
  }
});
document.addEventListener("focusin", (event) => {
  if (event.target.matches?.(".value input.number")) {
    event.target.dataset.sent ??= event.target.value;
    event.target.select();
  }
});
document.addEventListener("focusout", (event) => {
  const box = event.target.closest?.(".value");
  // a number taken away by a redraw is sent from the one that takes its place, not from both
  if (box && !swapping && document.contains(box)) {
    clearTimeout(box.pending);
    commit(box);
  }
});
document.addEventListener("dblclick", (event) => {
  const box = event.target.closest?.(".value");
  if (!box || box.classList.contains("off")) return;
  parts(box).input.dataset.sent ??= parts(box).input.value;
  set(box, parts(box).reset);
  commit(box);
});
document.addEventListener("pointerdown", (event) => {
  const scale = event.target.closest?.(".value svg");
  if (!scale || scale.closest(".off")) return;
  const box = scale.closest(".value");
  const { input, low, high, log } = parts(box);
  input.dataset.sent ??= input.value;
  const span = scale.getBoundingClientRect();
  let moved = false;
  const start = event.clientX;
  const move = (e) => {
    if (!moved && Math.abs(e.clientX - start) < 3) return;
    moved = true;
    set(box, valueAt((e.clientX - span.left) / span.width, low, high, log));
    input.dispatchEvent(new CustomEvent("dragging", { bubbles: true }));
  };
  const end = () => {
    scale.removeEventListener("pointermove", move);
    if (moved) commit(box);
  };
  scale.setPointerCapture(event.pointerId);
  scale.addEventListener("pointermove", move);
  scale.addEventListener("pointerup", end, { once: true });
  scale.addEventListener("pointercancel", end, { once: true });
});

// What is drawn anew keeps the hand where it was: the same control keeps the focus, and a number not yet sent.
let held = null;
document.addEventListener("htmx:beforeSwap", () => {
  swapping = true;
  queueMicrotask(() => (swapping = false));
  const element = document.activeElement;
  const label = element?.getAttribute("aria-label");
  if (!label && !element?.id) return;
  const unsent =
    element.matches(".value input.number") &&
    element.value !== (element.dataset.sent ?? element.defaultValue);
  const { selectionStart, selectionEnd } = unsent ? element : {};
  held = {
    element,
    label,
    id: element.id,
    text: unsent ? element.value : null,
    caret: [selectionStart, selectionEnd],
    nudged: Boolean(element.closest(".value")?.pending),
    within: element.closest("#panel") ? "#panel " : "",
  };
});
for (const name of ["focusin", "pointerdown"])
  document.addEventListener(name, () => (held = null), { capture: true });
// after the workspace's own scripts have drawn; what it has loaded after it comes into view is waited for
addEventListener("htmx:afterSettle", () => {
  if (!held || document.contains(held.element)) return;
  const { label, id, text, caret, nudged, within } = held;
  const again =
    (id && document.getElementById(id)) ||
    document.querySelector(`${within}[aria-label="${CSS.escape(label ?? "")}"]`);
  if (!again) return;
  again.focus({ preventScroll: true });
  if (text === null) return;
  again.value = text;
  again.setSelectionRange(...caret);
  const box = again.closest(".value");
  draw(box);
  // what was stepped by the arrow keys is sent when they rest; what is half typed waits for the rest of it
  if (nudged) box.pending = setTimeout(() => commit(box), 350);
});

document.addEventListener("redraw", (event) => draw(event.target));
const drawAll = (root) => root.querySelectorAll?.(".value").forEach(draw);
document.addEventListener("htmx:load", (event) => {
  drawAll(event.target);
  if (event.target.matches?.(".value")) draw(event.target);
});
drawAll(document);
