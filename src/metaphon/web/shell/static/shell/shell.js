// What every page does: passing messages, the revision that edits are made against, keys, the theme.

import "./beside.js";
import "./draft.js";
import "./edit.js";
import "./help.js";
import "./palette.js";
import { keepNudged } from "./nudge.js";
import { whenLetGo } from "./press.js";
import { isEditing } from "./redraw.js";

const messages = document.getElementById("messages");

function say({ message, refused = false, link = null }) {
  const box = document.createElement("div");
  box.className = `said${refused ? " refused" : ""}`;
  box.setAttribute("role", refused ? "alert" : "status");
  const text = document.createElement("span");
  text.textContent = message;
  if (link)
    text.append(
      " ",
      Object.assign(document.createElement("a"), { href: link.address, textContent: link.words }),
    );
  const close = document.createElement("button");
  close.className = "button bare square";
  close.setAttribute("aria-label", "Close");
  close.textContent = "\u00d7";
  close.onclick = () => box.remove();
  box.append(text, close);
  messages.replaceChildren(...[...messages.children].slice(-2), box);
  setTimeout(() => box.remove(), refused ? 12000 : 4000);
}
document.addEventListener("say", (event) => say(event.detail));
document.addEventListener("htmx:sendError", () =>
  say({ message: "The server cannot be reached; nothing was changed.", refused: true }),
);
document.addEventListener("htmx:responseError", (event) => {
  const status = event.detail.xhr.status;
  if (status === 404) say({ message: "This is no longer there; reload the page.", refused: true });
  if (status >= 500)
    say({ message: "The program made a fault; nothing was changed. Try again.", refused: true });
});

document.addEventListener("htmx:configRequest", (event) => {
  event.detail.headers["X-CSRFToken"] = document.querySelector("meta[name=csrf]").content;
  const revision = document.getElementById("history")?.dataset.revision;
  if (revision) event.detail.headers["X-Seen-Revision"] = revision;
});
// An answer is drawn as it was asked for, though a redraw has taken away the link that asked.
document.addEventListener("htmx:beforeRequest", ({ detail }) => {
  const { elt, etc, boosted } = detail;
  const said = (name) => elt.closest(`[${name}]`)?.getAttribute(name);
  detail.select ??= said("hx-select");
  etc.selectOOB ??= said("hx-select-oob");
  etc.swapOverride ??= said("hx-swap");
  if (boosted) etc.push ??= "true";
});

// No answer is drawn under a press: what is pressed would be gone before it is let go, and the press with it.
// Nor is a workspace drawn before its scripts are here: what is chosen in it until then would be lost.
document.addEventListener("htmx:beforeSend", ({ detail: { xhr } }) => {
  const loaded = xhr.onload;
  xhr.onload = async (event) => {
    await scriptsOf(xhr.responseText);
    whenLetGo(() => loaded.call(xhr, event));
  };
});
const SCRIPT = /<script type="module" src="([^"]+)"/g;
const scriptsOf = (page) =>
  Promise.allSettled([...page.matchAll(SCRIPT)].map(([, address]) => import(address)));
// A page that is opened is inert until its own scripts have run.
document.addEventListener("DOMContentLoaded", () => (document.body.inert = false));

// Edits reach the server in the order in which they were made: each is sent when the one before it is answered.
let line = Promise.resolve();
document.addEventListener("htmx:beforeSend", ({ detail: { xhr, requestConfig } }) => {
  if (requestConfig.verb === "get") return;
  const send = xhr.send.bind(xhr);
  xhr.send = (body) => {
    line = line.then(
      () =>
        new Promise((answered) => {
          xhr.addEventListener("loadend", answered);
          send(body);
        }),
    );
  };
});

// Undo and redo. Each press is a request of its own, whatever is drawn anew meanwhile; with an edit under way there is
// something to undo that the button does not know of.
function step(button) {
  keepNudged();
  if (!button || (button.disabled && !isEditing())) return;
  const carrier = document.body.appendChild(
    Object.assign(document.createElement("span"), { hidden: true }),
  );
  htmx
    .ajax("POST", button.dataset.undo, { source: carrier, target: document.body, swap: "none" })
    .finally(() => carrier.remove());
}
document.addEventListener("click", ({ target }) => step(target.closest?.("[data-undo]")));

// What was pressed with the mouse gives the keys back: Space plays, it does not press the same button again.
let byHand = false;
document.addEventListener("pointerdown", () => (byHand = true), { capture: true });
document.addEventListener("keydown", () => (byHand = false), { capture: true });
const giveBack = { click: "button, summary, [type=checkbox]", change: "select" };
for (const [name, controls] of Object.entries(giveBack))
  document.addEventListener(name, ({ target }) => {
    const control = byHand && target.closest?.(controls);
    // a form is told first which button has sent it; what was drawn anew meanwhile has got the keys in its place
    if (control)
      setTimeout(() => {
        if (!byHand) return;
        control.blur();
        if (document.activeElement?.matches(controls)) document.activeElement.blur();
      });
  });

document.addEventListener("keydown", (event) => {
  const field = event.target;
  const typing = field.matches?.("input:not([type=checkbox]), select, textarea");
  // in a number that was sent already, undo means the edit; in one still being typed, the typing
  const sent =
    field.matches?.("select, .value input.number") &&
    field.value === (field.dataset.sent ?? field.defaultValue ?? field.value);
  if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === "z" && (!typing || sent)) {
    event.preventDefault();
    step(document.getElementById(event.shiftKey ? "redo" : "undo"));
  }
  const pressed = field.matches?.("button, summary, [type=checkbox], [role=slider]");
  if (event.key === " " && !typing && !pressed) {
    event.preventDefault();
    document.querySelector("#listen .play")?.click();
  }
});

document.addEventListener("click", (event) => {
  if (!event.target.closest?.("#theme")) return;
  const day = document.documentElement.dataset.theme !== "day";
  document.documentElement.dataset.theme = day ? "day" : "night";
  document.cookie = `theme=${day ? "day" : "night"};path=/;max-age=31536000;samesite=lax`;
  document.dispatchEvent(new Event("theme-changed"));
});

// A choice that takes effect at once.
document.addEventListener("change", ({ target }) => {
  if (target.matches?.("[data-submit]")) target.form.requestSubmit();
});

// What a box says of what was just done is gone when it is opened again.
document.addEventListener(
  "toggle",
  ({ target, newState }) =>
    newState === "closed" && target.querySelector?.("[data-until-closed]")?.replaceChildren(),
  { capture: true },
);

// What comes next after an answer takes the focus.
document.addEventListener("htmx:load", ({ target }) =>
  target.querySelector?.("[data-take-focus]")?.focus(),
);
