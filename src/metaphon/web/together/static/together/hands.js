// What others do to the mix: drawn at once wherever it is shown, and marked by whose hand for a moment; and what each
// of them has in hand now. An edit of one's own is drawn by its answer.

import { isEditing, revisionDrawn, revisionShown } from "../shell/redraw.js";
import { around } from "./around.js";

const QUIET_MS = 40; // for the answer to an own edit, which brings the same revision
const MARKED_MS = 4000;

let theirs = 0; // the latest revision that somebody else has made
let mine = 0; // the latest that this person has made, here or on another page
let marks = []; // {by, places, until}: what is marked, from when it is drawn
let decisions = null;
let timer;
let unmarking;

const isMissing = () => theirs > revisionDrawn() || mine > revisionShown();

around.addEventListener("state", ({ detail }) => {
  for (const { by, own, what, places, revision } of detail.edits ?? []) {
    if (own) mine = Math.max(mine, revision);
    else {
      theirs = Math.max(theirs, revision);
      marks.push({ by, places });
      tell(by, what);
    }
  }
  // connected anew: what was changed meanwhile is not known one by one
  if (!detail.edits) mine = detail.revision;
  if (decisions !== null && decisions !== detail.decisions) changed();
  decisions = detail.decisions;
  catchUp();
});
function catchUp() {
  clearTimeout(timer);
  timer = setTimeout(() => {
    if (!isMissing()) return;
    if (isEditing()) catchUp();
    else changed();
  }, QUIET_MS);
}
// whatever else shows the mix is told as well
const changed = () =>
  document.body.dispatchEvent(new CustomEvent("mix-changed", { bubbles: true, detail: {} }));
document.addEventListener("htmx:afterSettle", () => {
  mark();
  showHeld();
  if (isMissing()) catchUp();
});

// -- by whose hand

// The controls of a place, or where it has none that is shown, whatever stands for its strip.
function shownAt([strip, path]) {
  const own = `${strip} ${path}`;
  const controls = [...document.querySelectorAll("#workspace [data-set], #lanes [data-set]")]
    .filter(({ dataset: { set } }) => set === own || set.startsWith(`${own}/`))
    .map((control) => control.closest(".value") ?? control)
    .filter((box) => box.checkVisibility());
  const name = CSS.escape(strip);
  const drawn = (selector) => [...document.querySelectorAll(`#workspace :is(${selector})`)];
  if (controls.length)
    return path.startsWith("placement/")
      ? [...controls, ...drawn(`g[data-id="${name}"]`)]
      : controls;
  return strip ? drawn(`[data-id="${name}"], .clip[data-strip="${name}"]`) : [];
}
function mark() {
  if (!marks.length || theirs > revisionDrawn()) return;
  // what workspaces draw by themselves is there in the next frame
  requestAnimationFrame(() => {
    const now = performance.now();
    for (const one of marks) one.until ??= now + MARKED_MS;
    for (const element of document.querySelectorAll(".by-another"))
      element.classList.remove("by-another");
    marks = marks.filter(({ until }) => until > now);
    for (const { by, places } of marks)
      for (const element of places.flatMap(shownAt)) {
        element.classList.add("by-another");
        element.dataset.by = by;
      }
    clearTimeout(unmarking);
    if (marks.length) unmarking = setTimeout(mark, MARKED_MS + 50);
  });
}

// One line for each of the others: what they did last.
function tell(by, what) {
  const messages = document.getElementById("messages");
  const box =
    [...messages.children].find(({ dataset }) => dataset.by === by) ??
    Object.assign(document.createElement("div"), { className: "said another" });
  box.dataset.by = by;
  box.setAttribute("role", "status");
  box.textContent = `${by}: ${what}`;
  messages.append(box);
  clearTimeout(box.timer);
  box.timer = setTimeout(() => box.remove(), MARKED_MS);
}
around.addEventListener("overwritten", ({ detail }) =>
  document.dispatchEvent(new CustomEvent("say", { detail: { message: detail.overwritten } })),
);

// -- what each has in hand

const held = new Map(); // by the key of an open page: [strip, path]
let names = new Map();
let holding = ["", ""];

const placeOf = (element) => {
  const control = element.closest?.("#workspace [data-set], #lanes [data-set]");
  if (control) return control.dataset.set.split(" ");
  const source = element.closest?.("#workspace :is(g[data-id], .clip[data-strip])");
  return source ? [source.dataset.id ?? source.dataset.strip, ""] : ["", ""];
};
function hold(place) {
  if (place.join(" ") === holding.join(" ")) return;
  holding = place;
  if (names.size) around.tell({ holds: holding });
}
document.addEventListener("focusin", ({ target }) => hold(placeOf(target)));
document.addEventListener("focusout", ({ relatedTarget }) => relatedTarget || hold(["", ""]));
around.addEventListener("state", ({ detail }) => {
  const known = names;
  names = new Map(detail.others.flatMap(({ name, keys }) => keys.map((key) => [key, name])));
  // who has come knows nothing yet
  if (holding[0] && [...names.keys()].some((key) => !known.has(key)))
    around.tell({ holds: holding });
  for (const key of held.keys()) if (!names.has(key)) held.delete(key);
  showHeld();
});
around.addEventListener("holds", ({ detail: { by, holds } }) => {
  if (holds[0]) held.set(by, holds);
  else held.delete(by);
  showHeld();
});
function showHeld() {
  for (const element of document.querySelectorAll(".held-by")) element.classList.remove("held-by");
  for (const [key, place] of held)
    for (const element of shownAt(place)) {
      element.classList.add("held-by");
      element.dataset.holder = names.get(key) ?? "";
    }
}
