// A text half typed in a form of a command outlives a redraw by somebody else's edit, and is there again when its form
// is opened again.

const FIELDS = "form[data-command] :is(textarea, input[type=text])";
const drafts = new Map(); // by form and field: the text, and where the caret is
const keyOf = (field) => `${field.closest("form").dataset.command} ${field.name}`;

document.addEventListener("htmx:beforeSwap", () => {
  for (const field of document.querySelectorAll(FIELDS)) {
    const { value, defaultValue, selectionStart, selectionEnd } = field;
    if (value === defaultValue) drafts.delete(keyOf(field));
    else drafts.set(keyOf(field), { value, caret: [selectionStart, selectionEnd] });
  }
});
document.addEventListener("htmx:afterSettle", () => {
  if (!drafts.size) return;
  for (const field of document.querySelectorAll(FIELDS)) {
    const draft = drafts.get(keyOf(field));
    if (!draft || field.value !== field.defaultValue) continue;
    field.value = draft.value;
    if (field === document.activeElement) field.setSelectionRange(...draft.caret);
  }
});
// what is sent is no longer half typed
document.addEventListener("submit", ({ target }) => {
  for (const field of target.querySelectorAll(FIELDS)) {
    field.defaultValue = field.value;
    drafts.delete(keyOf(field));
  }
});
