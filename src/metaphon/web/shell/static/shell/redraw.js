// Drawing the workspace anew in place: after an undo, or where somebody else has changed the mix. What the person was
// doing stays: where it was scrolled to, which boxes are open, what is half typed or chosen in a form.

let edits = 0;
let underWay = 0;
let drawn = revisionShown(); // the revision of the mix that the workspace was last drawn whole from
let drawing = false;
let again = false;

export function revisionShown() {
  return +(document.getElementById("history")?.dataset.revision ?? 0);
}
export const revisionDrawn = () => drawn;
export const isEditing = () => underWay > 0;

document.addEventListener("htmx:beforeRequest", (event) => {
  const { detail } = event;
  const { xhr, requestConfig } = detail;
  if (requestConfig.verb === "get") return;
  edits += 1;
  underWay += 1;
  xhr.addEventListener("readystatechange", () => {
    if (xhr.readyState !== XMLHttpRequest.DONE) return;
    edits += 1;
    underWay -= 1;
    if (document.contains(detail.target)) return;
    // its row or its page went while the answer was on its way: nothing of it is drawn, and all is drawn anew
    [detail.target, detail.gone] = [document.body, true];
    drawAnew();
  });
});

// A drawing that was asked for before an edit began or ended may be out of date: it is asked for again.
const place = () => location.pathname + location.search;
export async function drawAnew() {
  again = drawing;
  if (drawing) return;
  drawing = true;
  try {
    await htmx.ajax("GET", place(), {
      target: "#workspace",
      select: "#workspace > *",
      selectOOB: "#history,#mix-title",
      swap: "innerHTML",
      headers: { "X-Edits": edits, "X-Place": place() },
    });
  } finally {
    drawing = false;
    if (again) drawAnew();
  }
}
document.addEventListener("mix-changed", (event) => {
  if (event.detail.value !== false) drawAnew();
});
document.addEventListener("htmx:beforeSwap", (event) => {
  if (event.detail.gone) event.detail.shouldSwap = false;
  const { "X-Edits": asked, "X-Place": of } = event.detail.requestConfig.headers;
  if (asked === undefined) return;
  if (+asked === edits && of === place()) return keep();
  event.detail.shouldSwap = false;
  again = true;
});
document.addEventListener("htmx:afterSettle", ({ detail }) => {
  if (detail.target?.id !== "workspace" || detail.requestConfig?.verb !== "get") return;
  drawn = revisionShown();
  if (kept) putBack();
});

// -- what stays

const workspace = () => document.getElementById("workspace");
const within = (selector) => [...workspace().querySelectorAll(selector)];
// the same element in both drawings: by its id, or by its place among those of its kind
function locate(element) {
  if (element.id) return [`#${CSS.escape(element.id)}`, 0];
  const kind = [element.localName, ...element.classList].map((word) => CSS.escape(word)).join(".");
  return [kind, within(kind).indexOf(element)];
}
const find = ([kind, number]) => within(kind)[number];
// fields that say nothing until their form is sent; what takes effect at once is as the server says
const FIELDS =
  "form :is(input:not([type=hidden], [type=file]), select, textarea):not([data-set], [data-command], [data-submit])";
const isTouched = (field) =>
  field.matches("[type=checkbox], [type=radio]")
    ? field.checked !== field.defaultChecked
    : field.matches("select")
      ? [...field.options].some((option) => option.selected !== option.defaultSelected)
      : field.value !== field.defaultValue;
const named = (field) => {
  const form = field.closest("form");
  return [
    form.id,
    form.dataset.command,
    form.getAttribute("action"),
    field.name,
    field.value,
  ].join();
};

let kept = null;
function keep() {
  if (kept) putBack(); // drawn anew twice before the first was settled
  kept = {
    place: place(),
    scrolled: within("*")
      .filter((element) => element.scrollTop || element.scrollLeft)
      .map((element) => [locate(element), element.scrollTop, element.scrollLeft]),
    boxes: within(":popover-open").map(locate),
    folds: within("details").map((fold) => fold.open),
    focused: within(":focus").map((element) => [element, locate(element)]),
    fields: within(FIELDS)
      .filter((field) => field.name && isTouched(field))
      .map((field) => [named(field), field]),
  };
}
function putBack() {
  const { scrolled, boxes, folds, fields, focused, place: of } = kept;
  kept = null;
  if (of !== place()) return;
  for (const box of boxes) find(box)?.showPopover();
  const now = within("details");
  if (now.length === folds.length) now.forEach((fold, n) => (fold.open = folds[n]));
  for (const [name, old] of fields) {
    const box = old.matches("[type=checkbox], [type=radio]");
    for (const field of within(FIELDS)) {
      if (isTouched(field) || field.type !== old.type) continue;
      if (box ? named(field) !== name : !alike(field, old)) continue;
      if (box) field.checked = old.checked;
      else field.value = old.value;
      break;
    }
  }
  for (const [element, where] of focused)
    if (document.activeElement === document.body) takeUp(element, where);
  for (const [where, top, left] of scrolled) {
    const element = find(where);
    if (element) [element.scrollTop, element.scrollLeft] = [top, left];
  }
}
// The keys go on where they went; what has a name of its own is found by `value.js`.
function takeUp(old, where) {
  const field = old.matches(FIELDS) ? within(FIELDS).find((one) => alike(one, old)) : null;
  const again = field || (!old.ariaLabel && find(where));
  again?.focus?.({ preventScroll: true });
  if (field && field.matches("[type=text], textarea"))
    field.setSelectionRange(old.selectionStart, old.selectionEnd);
}
function alike(field, old) {
  const [form, other] = [field.closest("form"), old.closest("form")];
  return (
    field.name === old.name &&
    form.id === other.id &&
    form.dataset.command === other.dataset.command &&
    form.getAttribute("action") === other.getAttribute("action")
  );
}
