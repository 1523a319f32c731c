// The figures of a delivery are filled in when it is chosen.

document.addEventListener("change", (event) => {
  const select = event.target.closest?.("[data-loudness]");
  if (!select?.value) return;
  const figures = select.value.split(" ");
  ["loudness_lufs", "tolerance_lu", "ceiling_dbtp"].forEach((name, n) => {
    select.form.elements[name].value = figures[n];
  });
});
