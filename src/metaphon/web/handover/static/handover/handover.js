// The figures of a delivery are filled in when it is chosen.

document.addEventListener("change", (event) => {
  const select = event.target.closest?.("[data-loudness]");
  if (!select?.value) return;
  const figures = select.value.split(" ");
  ["loudness_lufs", "tolerance_lu", "ceiling_dbtp"].forEach((name, n) => {
    select.form.elements[name].value = figures[n];
  });
});

// A cell that was pressed while an answer was on its way is not in it: it stays as it was pressed.
const pressed = new Map(); // by name and value: how, and when
const asked = new WeakMap(); // when each answer was asked for
const CELLS = "#targets input[name]";
const keyOf = ({ name, value }) => `${name} ${value}`;

document.addEventListener("change", ({ target }) => {
  if (!target.matches?.(CELLS)) return;
  pressed.set(keyOf(target), { checked: target.checked, at: performance.now() });
});
document.addEventListener("htmx:beforeSend", ({ detail: { xhr } }) =>
  asked.set(xhr, performance.now()),
);
document.addEventListener("htmx:afterSwap", ({ detail: { xhr } }) => {
  for (const cell of document.querySelectorAll(CELLS)) {
    const { checked, at } = pressed.get(keyOf(cell)) ?? {};
    if (at > asked.get(xhr)) cell.checked = checked;
  }
});

// What was just begun comes into sight, with its progress.
document.addEventListener("htmx:afterSettle", ({ detail: { requestConfig, target } }) => {
  if (requestConfig?.verb === "post" && target?.id === "renders")
    document.querySelector("#renders section")?.scrollIntoView({ block: "nearest" });
});

// What was chosen as another format is a row of the matrix with the next drawing.
document.addEventListener("htmx:configRequest", ({ target }) => {
  const further = target.id === "asked" && target.elements.further;
  if (further) further.value = "";
});
