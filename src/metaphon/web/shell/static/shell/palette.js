// Finds any action of the page, and any track, bus or place of the mix, by typing; and shows the page of keys.

import { fetchText } from "./fetch_text.js";
import { found } from "./find.js";

const box = () => document.getElementById("palette");
const input = () => box().querySelector("input");
const list = () => document.getElementById("palette-list");
let items = [];
let before = null; // what had the focus

const nameOf = (element) =>
  (element.getAttribute("aria-label") ?? element.textContent).replace(/\s+/g, " ").trim();

// Every control in sight is an action: a press is pressed, a field gets the focus.
function actions() {
  const seen = new Set();
  return [...document.querySelectorAll("button, input, select, a.button, summary")]
    .filter((element) => {
      if (element.disabled || element.closest("#palette, #keys") || element.type === "hidden")
        return false;
      const name = element.matches("input, select") ? fieldName(element) : nameOf(element);
      if (name.length < 2 || seen.has(name)) return false;
      const shown = element.checkVisibility({ visibilityProperty: true });
      if (shown) seen.add(name);
      return shown;
    })
    .map((element) =>
      element.matches("input, select")
        ? { title: fieldName(element), detail: "set", act: () => reach(again(element)) }
        : { title: nameOf(element), detail: "press", act: () => again(element)?.click() },
    );
}
const fieldName = (element) =>
  element.getAttribute("aria-label") ?? nameOf(element.closest("label") ?? element);
// The element itself, or the one of its name that a redraw has put in its place.
function again(element) {
  if (element.isConnected) return element;
  const named = element.matches("input, select") ? fieldName : nameOf;
  const name = named(element);
  return [...document.querySelectorAll(element.tagName)].find((one) => named(one) === name);
}
function reach(element) {
  if (!element) return;
  if (element.type === "checkbox") element.click();
  else element.focus();
  element.scrollIntoView({ block: "nearest" });
}

async function gather() {
  items = actions();
  show();
  if (!box().dataset.places) return;
  const text = await fetchText(box().dataset.places);
  if (text === null) return;
  items = [...JSON.parse(text).places, ...items];
  show();
}

function show() {
  const rows = found(input().value, items).map((item, place) => {
    const row = document.createElement(item.address ? "a" : "button");
    if (item.address) row.href = item.address;
    row.className = "found";
    row.id = `found-${place}`;
    row.tabIndex = -1;
    row.setAttribute("role", "option");
    row.setAttribute("aria-selected", String(place === 0));
    const detail = Object.assign(document.createElement("span"), {
      className: "quiet",
      textContent: item.detail,
    });
    row.append(item.title, detail);
    row.addEventListener("click", () => {
      box().hidePopover();
      item.act?.();
      if (item.state) openState(item.state);
    });
    return row;
  });
  if (!rows.length)
    rows.push(
      Object.assign(document.createElement("p"), {
        className: "quiet",
        textContent: "Nothing here is called that.",
      }),
    );
  list().replaceChildren(...rows);
  htmx.process(list());
  mark();
}
// A named state is shown where it stands in the history.
function openState(revision) {
  const seen = ({ target }) => {
    if (target.id !== "history-list") return;
    document.removeEventListener("htmx:afterSettle", seen);
    const state = document.getElementById(`state-${revision}`);
    state?.scrollIntoView({ block: "center" });
    state?.querySelector("button, input")?.focus({ preventScroll: true });
  };
  document.addEventListener("htmx:afterSettle", seen);
  document.querySelector("[popovertarget=history-list]").click();
}
const chosen = () => list().querySelector("[aria-selected=true]");
function mark() {
  input().setAttribute("aria-activedescendant", chosen()?.id ?? "");
  chosen()?.scrollIntoView({ block: "nearest" });
}
function move(by) {
  const rows = [...list().querySelectorAll(".found")];
  if (!rows.length) return;
  const at = rows.indexOf(chosen());
  rows[at].setAttribute("aria-selected", "false");
  rows[(at + by + rows.length) % rows.length].setAttribute("aria-selected", "true");
  mark();
}

function open() {
  before = document.activeElement;
  document.querySelectorAll("[popover]:popover-open").forEach((one) => one.hidePopover());
  box().showPopover();
  input().value = "";
  input().focus();
  gather();
}

document.addEventListener("keydown", (event) => {
  if (!box()) return;
  if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === "k") {
    event.preventDefault();
    if (box().matches(":popover-open")) box().hidePopover();
    else open();
  } else if (event.key === "?" && !event.target.matches?.("input:not([type=checkbox]), textarea")) {
    event.preventDefault();
    document.getElementById("keys").togglePopover();
  } else if (event.target === input()) {
    if (event.key === "ArrowDown" || event.key === "ArrowUp") {
      event.preventDefault();
      move(event.key === "ArrowDown" ? 1 : -1);
    } else if (event.key === "Enter") {
      event.preventDefault();
      chosen()?.click();
    }
  }
});
document.addEventListener("input", (event) => box() && event.target === input() && show());
document.addEventListener("click", (event) => event.target.closest?.("[data-find]") && open());
document.addEventListener(
  "toggle",
  (event) => {
    if (event.target !== box() || event.newState !== "closed") return;
    if (document.activeElement === document.body || box().contains(document.activeElement))
      before?.focus();
  },
  { capture: true },
);
