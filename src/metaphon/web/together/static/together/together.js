// Others in this mix: who they are and where, told at once of their remarks; where this page's own remark belongs.

import { player } from "../listen/player.js";

const AGAIN_MS = [500, 1000, 2000, 5000];
const others = document.getElementById("others");
const placeOf = () => location.pathname.split("/")[3] ?? "";

let wire = null;
let tries = 0;
let known = null;

function connect() {
  const bar = document.getElementById("listen");
  const url = new URL(others.dataset.around, location.href);
  url.protocol = url.protocol.replace("http", "ws");
  if (bar?.dataset.port) url.port = bar.dataset.port;
  wire = new WebSocket(url);
  wire.onopen = () => {
    tries = 0;
    tellPlace();
  };
  wire.onmessage = ({ data }) => hear(JSON.parse(data));
  wire.onclose = () => setTimeout(connect, AGAIN_MS[Math.min(tries++, AGAIN_MS.length - 1)]);
}
function tellPlace() {
  if (wire?.readyState === WebSocket.OPEN) wire.send(JSON.stringify({ place: placeOf() }));
}
document.addEventListener("htmx:pushedIntoHistory", tellPlace);

function hear(state) {
  if (known && known.remarks !== state.remarks)
    document.body.dispatchEvent(new Event("remarks-changed", { bubbles: true }));
  known = state;
  others.replaceChildren(
    ...state.others.map(({ name, places }) => {
      const chip = document.createElement("span");
      chip.className = "other";
      chip.textContent = [...name].slice(0, 2).join("");
      chip.title = [name, places.join(", ")].filter(Boolean).join(": ");
      chip.setAttribute("role", "img");
      chip.setAttribute(
        "aria-label",
        `${name} is here too${places.length ? `, at ${places}` : ""}`,
      );
      return chip;
    }),
  );
}

// -- where a remark belongs

const clock = (seconds) => {
  const minutes = Math.floor(seconds / 60);
  return `${minutes}:${(seconds - minutes * 60).toFixed(1).padStart(4, "0")}`;
};
function place(form) {
  const at = (frame) => Math.round((frame / player.rate) * 1000) / 1000;
  const [from, to] = {
    here: [at(player.position), null],
    loop: player.state.loop?.map(at) ?? [at(player.position), null],
    whole: [null, null],
  }[form.elements.of.value];
  form.elements.start_s.value = from ?? "";
  form.elements.end_s.value = to ?? "";
  form.querySelector("[data-remark-place]").textContent =
    from === null ? "" : to === null ? clock(from) : `${clock(from)} to ${clock(to)}`;
}
const form = () => document.querySelector("[data-remark]");
const stays = () => form()?.elements.text.value; // with words in it, it keeps its place
setInterval(() => {
  const open = document.getElementById("remarks-list")?.matches(":popover-open");
  if (open && form() && !stays()) place(form());
}, 200);
document.addEventListener("change", ({ target }) => {
  if (target.closest?.("[data-remark]") && target.name === "of") place(target.form);
});
document.addEventListener("htmx:afterRequest", ({ detail }) => {
  if (detail.successful && detail.elt.matches?.("[data-remark], [data-answer]")) detail.elt.reset();
});
// the list is not drawn anew under an answer that is being typed
const typed = () =>
  [...document.querySelectorAll("[data-answer] input")].some((field) => field.value);
document.addEventListener("htmx:beforeSwap", ({ detail }) => {
  const { target, requestConfig } = detail;
  if (target.id === "remarks-body" && requestConfig.verb === "get" && typed())
    detail.shouldSwap = false;
});
document.addEventListener("keydown", (event) => {
  if (event.key !== "r" || event.ctrlKey || event.metaKey || event.altKey) return;
  if (event.target.matches?.("input:not([type=checkbox]), select, textarea")) return;
  event.preventDefault();
  const box = document.getElementById("remarks-list");
  box.togglePopover();
  if (box.matches(":popover-open")) form()?.elements.text.focus();
});

connect();
