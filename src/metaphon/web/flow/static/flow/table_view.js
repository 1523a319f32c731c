// Which rows of the table are in sight: those whose name is searched for, whose group is not folded, which are not
// hidden. It is this browser's view of a mix, not an edit of it.

const flow = () => document.querySelector(".flow[data-view=table]");
const nameOf = (what) => `flow ${flow().dataset.mix} ${what}`;
function remembered(what) {
  try {
    return new Set(JSON.parse(localStorage.getItem(nameOf(what)) ?? "[]"));
  } catch {
    return new Set();
  }
}
const remember = (what, set) => localStorage.setItem(nameOf(what), JSON.stringify([...set]));
const plain = (text) => text.normalize("NFD").replace(/\p{M}/gu, "").toLowerCase();

function apply() {
  if (!flow()) return;
  const [folded, hidden] = [remembered("folded"), remembered("hidden")];
  const words = plain(document.getElementById("find-rows")?.value ?? "").split(/\s+/);
  const seen = new Set();
  let left = 0;
  for (const row of document.querySelectorAll("#flowtable tbody[data-name]")) {
    const fits = words.every((word) => plain(row.dataset.name).includes(word));
    const isHidden = hidden.has(row.id);
    left += isHidden;
    // what is searched for is shown though its group is folded
    const isFolded = folded.has(row.dataset.group) && !words[0];
    row.hidden = isHidden || isFolded || !fits;
    if (fits && !isHidden) seen.add(row.dataset.group);
  }
  for (const head of document.querySelectorAll("#flowtable .section-head")) {
    head.hidden = !seen.has(head.dataset.section);
    const isOpen = !folded.has(head.dataset.section) || Boolean(words[0]);
    head.querySelector("button").setAttribute("aria-expanded", String(isOpen));
  }
  const button = document.querySelector("[data-show-hidden]");
  button.hidden = !left;
  button.textContent = `Show ${left} hidden`;
}

document.addEventListener("input", ({ target }) => target.id === "find-rows" && apply());
document.addEventListener("click", ({ target }) => {
  if (!flow()) return;
  const fold = target.closest?.("[data-fold-group]");
  if (fold) {
    const folded = remembered("folded");
    if (!folded.delete(fold.dataset.foldGroup)) folded.add(fold.dataset.foldGroup);
    remember("folded", folded);
  } else if (target.closest?.("[data-hide-chosen]")) {
    const chosen = [...document.querySelectorAll("#flowtable .pick:checked")];
    const hidden = remembered("hidden");
    for (const box of chosen) hidden.add(`row-${box.value}`);
    remember("hidden", hidden);
    document.dispatchEvent(new CustomEvent("flow-hide-chosen"));
  } else if (target.closest?.("[data-show-hidden]")) remember("hidden", new Set());
  else return;
  apply();
});
document.addEventListener("htmx:load", apply);
apply();
