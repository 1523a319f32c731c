// The form of a new remark: where it belongs; and a list that is not drawn anew under what is being typed.

import { player } from "../listen/player.js";

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
let stays = false; // from its first letter on it keeps its place
setInterval(() => {
  const open = document.getElementById("remarks-list")?.matches(":popover-open");
  if (open && form() && !stays) place(form());
}, 200);
document.addEventListener("input", ({ target }) => {
  if (target.name !== "text" || !target.closest("[data-remark]")) return;
  if (!stays) place(target.form);
  stays = Boolean(target.value);
});
document.addEventListener("change", ({ target }) => {
  if (target.closest?.("[data-remark]") && target.name === "of") place(target.form);
});
document.addEventListener("htmx:afterRequest", ({ detail }) => {
  if (!detail.successful || !detail.elt.matches?.("[data-remark], [data-answer]")) return;
  detail.elt.reset();
  if (detail.elt.matches("[data-remark]")) stays = false;
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
