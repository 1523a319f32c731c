// The matrix of sends: the ticked tracks are the chosen ones, and stay ticked when it is drawn anew.

import { choiceOf } from "../shell/choice.js";

const ticked = new Set();
const boxes = () => [...document.querySelectorAll("#sends [data-ticked]")];

function begin() {
  if (!document.getElementById("sends")) return;
  choiceOf({ chosen: () => boxes().flatMap((box) => (box.checked ? [box.dataset.ticked] : [])) });
  for (const box of boxes()) box.checked = ticked.has(box.dataset.ticked);
}
document.addEventListener("change", ({ target }) => {
  const strip = target.dataset?.ticked;
  if (!strip) return;
  if (target.checked) ticked.add(strip);
  else ticked.delete(strip);
});
document.addEventListener("htmx:afterSettle", begin);
begin();
