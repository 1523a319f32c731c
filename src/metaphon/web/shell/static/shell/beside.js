// What was measured apart is written beside what it belongs to, where that is still there when it comes.

document.addEventListener("htmx:afterSwap", ({ target }) => {
  for (const figure of target.querySelectorAll("[data-beside]")) {
    const place = document.getElementById(figure.dataset.beside);
    if (!place) continue;
    place.textContent = figure.textContent;
    place.title = figure.title;
  }
});
