// The form of the pair: earlier and later, and back to the mend that was found.

const form = () => document.getElementById("pair-form");

function go(change) {
  for (const [name, value] of Object.entries(change)) form().elements[name].value = value;
  form().dispatchEvent(new Event("change", { bubbles: true }));
}

document.addEventListener("click", ({ target }) => {
  const button = target.closest?.(".coherence [data-at], .coherence [data-found]");
  if (!button) return;
  if (button.dataset.at !== undefined) go({ at_s: button.dataset.at });
  else go({ delay_ms: "" });
});

document.addEventListener(
  "change",
  ({ target }) => {
    // another recording is looked at from its own loudest span, with its own mend
    if (!target.matches?.("#pair-form select:is([name=first], [name=other], [name$=side])")) return;
    for (const name of ["from_s", "at_s", "delay_ms"]) form().elements[name].value = "";
    form().elements.inverted.checked = false;
  },
  true,
);

document.addEventListener("keydown", (event) => {
  if (event.target.matches?.("input, select, textarea") || event.ctrlKey || event.metaKey) return;
  const step = { ",": 0, ".": 1 }[event.key];
  const button = document.querySelectorAll(".coherence [data-at]")[step];
  if (button) button.click();
});
