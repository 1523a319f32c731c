// One line of help on the parameter that the pointer rests on or that the focus is in.

const RESTS_MS = 450;
const line = document.getElementById("help");
let helps = null; // by path, for values outside of chains: asked for once
let waiting = 0;

const textOf = async (target) => {
  const said = target.closest("[data-help]");
  if (said) return said.dataset.help;
  const value = target.closest(".value, [data-set], [data-command]");
  const input = value?.querySelector("[data-set], [data-command]") ?? value;
  const path = input && pathOf(input);
  if (!path) return "";
  helps ??= fetch(line.dataset.helps).then((answer) => (answer.ok ? answer.json() : {}));
  return (await helps)[path] ?? "";
};

function pathOf({ dataset }) {
  if (dataset.set) return dataset.set.split(" ")[1]?.replace(/\/\d+/g, "");
  try {
    const { kind, path } = JSON.parse(dataset.command);
    if (kind === "set_fold_down") return `fold_down/${path}`;
    return kind === "set_tempo" ? "tempo" : path?.replace(/\/\d+/g, "");
  } catch {
    return "";
  }
}

const show = async (target) => {
  const text = await textOf(target);
  line.textContent = text;
  line.hidden = !text;
};

function hide() {
  clearTimeout(waiting);
  line.hidden = true;
}

if (line.dataset.helps) {
  document.addEventListener("pointerover", ({ target }) => {
    clearTimeout(waiting);
    const focused = document.activeElement;
    if (target.closest("[data-help], .value, [data-set], [data-command]"))
      waiting = setTimeout(() => show(target), RESTS_MS);
    else if (focused && focused !== document.body) show(focused);
    else hide();
  });
  document.addEventListener("focusin", ({ target }) => {
    target.setAttribute("aria-describedby", "help");
    show(target);
  });
  document.addEventListener("focusout", hide);
  document.addEventListener("pointerdown", () => clearTimeout(waiting));
  document.addEventListener("keydown", ({ key }) => key === "Escape" && hide());
}
