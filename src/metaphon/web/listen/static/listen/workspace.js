// The Listen workspace: what of listening is more than a single value, and the meters in step with the sound.

import { inStep, past, say, signed } from "./bar.js";
import { get, put, showAll, showNumber, takeNumber } from "./bind.js";
import { addBands, draw, drawInto } from "./meters.js";
import { player } from "./player.js";

let board = null;

const find = (selector) => board.querySelector(selector);
const all = (selector) => [...board.querySelectorAll(selector)];
const csrf = () => ({ "X-CSRFToken": document.querySelector("meta[name=csrf]").content });

function begin() {
  const found = document.querySelector(".listening");
  if (found === board) return;
  board = found;
  if (!board) return drawInto(null, labels);
  board.bands = JSON.parse(board.dataset.bands);
  board.layouts = JSON.parse(board.dataset.layouts);
  drawInto(board, labels);
  settings();
  status();
  draw();
}

const target = () =>
  get("monitor_source.target") ??
  player.sources?.groups[0]?.items[0].monitor_source.target ??
  "0+2+0";
const labels = () => player.sources?.labels?.[target()] ?? [];

function settings() {
  if (!board) return;
  showAll(board);
  channels();
  const view = board.querySelector("[data-view]").dataset.view;
  if (view === "meters") places();
  if (view === "compare") compare();
  if (view === "headphones") phones();
  if (view === "loudspeakers") speakers();
  draw();
}

// Left: every channel of what is heard, to hear alone or mute.
function channels() {
  const box = find(".channels-of");
  const names = labels();
  if (box.dataset.for !== names.join()) {
    box.dataset.for = names.join();
    box.replaceChildren(
      ...names.map((name) => {
        const cell = document.createElement("span");
        cell.className = "channel";
        const [alone, mute] = [document.createElement("button"), document.createElement("button")];
        alone.className = "button fig";
        alone.textContent = name.replace("-", "\u2212");
        alone.title = `Hear ${name} alone, with others chosen so`;
        alone.dataset.alone = name;
        mute.className = "button square mute";
        mute.textContent = "M";
        mute.dataset.silent = name;
        mute.setAttribute("aria-label", `Mute ${name}`);
        cell.append(alone, mute);
        return cell;
      }),
    );
  }
  for (const list of ["alone", "silent"]) {
    box
      .querySelectorAll(`[data-${list}]`)
      .forEach((button) =>
        button.setAttribute(
          "aria-pressed",
          String(player.state.monitor[list].includes(button.dataset[list])),
        ),
      );
  }
}

function places() {
  const here = board.layouts[target()] ?? [];
  find(".places").replaceChildren(
    ...here.map(({ label, x, y }) => {
      const mark = document.createElementNS("http://www.w3.org/2000/svg", "g");
      mark.setAttribute("transform", `translate(${x * 100} ${-y * 100})`);
      mark.innerHTML = `<path d="M-4 -4H4V4H-4Z"/><title>${label}</title>`;
      return mark;
    }),
  );
}

// --- compare --------------------------------------------------------------------------------

let blind = false;
function compare() {
  const { comparing, active } = player.state;
  all(".side").forEach((side) =>
    side.classList.toggle("heard", comparing && active === side.dataset.side),
  );
  const begin = find("[data-blind]");
  begin.textContent = blind ? "End" : "Begin";
  begin.setAttribute("aria-pressed", String(blind));
  find("[data-x]").disabled = !blind;
  all("[data-answer]").forEach((button) => (button.disabled = !blind));
}
player.addEventListener("blind", ({ detail }) => {
  if (!board?.querySelector(".score")) return;
  find(".score").textContent =
    `${detail.right ? "Right" : "Wrong"}. ${detail.score} of ${detail.of} right; by guessing as good or better in ${(detail.chance * 100).toFixed(1)} %.`;
});

// --- headphones -----------------------------------------------------------------------------

let drawn = "";
function phones() {
  const { monitor } = player.state;
  const room = monitor.binaural?.room;
  find("[data-room]").checked = Boolean(room);
  find("[data-room-settings]").hidden = !room;
  find("[data-worn]").checked = Boolean(monitor.worn);
  find("[data-correct]").setAttribute(
    "aria-pressed",
    String(Boolean(monitor.correction?.response)),
  );
  const pair = { left_deg: 30, right_deg: -30, ...monitor.virtual_pair };
  const lead = [];
  for (const [name, degrees] of [
    ["one", pair.left_deg],
    ["two", pair.right_deg],
  ]) {
    const [x, y] = [
      -Math.sin((degrees * Math.PI) / 180) * 92,
      -Math.cos((degrees * Math.PI) / 180) * 92,
    ];
    find(`.pair-plan .${name}`).setAttribute(
      "transform",
      `translate(${x.toFixed(1)} ${y.toFixed(1)})`,
    );
    lead.push(`M0 0L${x.toFixed(1)} ${y.toFixed(1)}`);
  }
  find(".pair-plan .leads").setAttribute("d", lead.join(""));
  const { head = "measured", head_radius_cm } = monitor.binaural ?? {};
  const ears = JSON.stringify({ head, head_radius_cm });
  const figure = find(".head-figure");
  if (figure.dataset.drawn !== ears) {
    figure.dataset.drawn = ears;
    htmx.ajax("GET", `${figure.dataset.address}?binaural=${encodeURIComponent(ears)}`, {
      target: figure,
      swap: "innerHTML",
    });
  }
  const correction = monitor.correction;
  const wanted = correction?.response ? JSON.stringify(correction) : "";
  const curves = find(".curves");
  if (wanted && (wanted !== drawn || !curves.querySelector("svg"))) {
    drawn = wanted;
    htmx.ajax("GET", `${curves.dataset.address}?correction=${encodeURIComponent(wanted)}`, {
      target: curves,
      swap: "innerHTML",
    });
  }
}

// --- loudspeakers ---------------------------------------------------------------------------

function speakers() {
  const layout = get("monitor.loudspeakers.layout");
  const names = player.sources?.labels?.[layout] ?? [];
  const body = find(".speakers tbody");
  if (body.dataset.for !== names.join()) {
    body.dataset.for = names.join();
    body.replaceChildren(
      ...names.map((name, i) => {
        const row = find("#speaker-row").content.cloneNode(true).querySelector("tr");
        row.dataset.channel = i;
        row.querySelector(".label").textContent = name.replace("-", "\u2212");
        row
          .querySelectorAll("input")
          .forEach((input) =>
            input.setAttribute("aria-label", `${input.getAttribute("aria-label")} of ${name}`),
          );
        row.querySelector(".pole").setAttribute("aria-label", `Invert ${name}`);
        // a setting in a list, which bind.js does not know
        row.querySelectorAll("[data-bind]").forEach((input) => {
          input.dataset.loudspeaker = input.dataset.bind;
          delete input.dataset.bind;
        });
        return row;
      }),
    );
  }
  const rows = get("monitor.loudspeakers.loudspeakers") ?? [];
  const only = get("monitor.loudspeakers.test_channel");
  [...body.rows].forEach((row, i) => {
    const held = rows[i] ?? {};
    for (const input of row.querySelectorAll(".number"))
      showNumber(input, +(held[input.name] ?? input.closest(".value").dataset.default));
    row.querySelector(".output").value = held.output ?? i + 1;
    row.querySelector(".pole").setAttribute("aria-pressed", String(Boolean(held.inverted)));
    row.querySelector("[data-test-one]").setAttribute("aria-pressed", String(only === i + 1));
  });
}
function speaker(i, change) {
  const count = find(".speakers tbody").rows.length;
  const rows = [...(get("monitor.loudspeakers.loudspeakers") ?? [])];
  while (rows.length < count) rows.push({});
  rows[i] = { ...rows[i], ...change };
  put("monitor.loudspeakers.loudspeakers", rows.slice(0, count));
}

// --- what is pressed ------------------------------------------------------------------------

document.addEventListener("click", async (event) => {
  if (!board) return;
  const button = event.target.closest?.("button");
  if (!button || !board.contains(button)) return;
  const { monitor } = player.state;
  const { dataset } = button;
  const toggled = (list, name) =>
    list.includes(name) ? list.filter((other) => other !== name) : [...list, name];
  if (dataset.alone) player.monitor({ alone: toggled(monitor.alone, dataset.alone) });
  else if (dataset.silent) player.monitor({ silent: toggled(monitor.silent, dataset.silent) });
  else if (dataset.group !== undefined)
    player.monitor({
      silent: [],
      alone: dataset.group
        ? labels().filter(
            (name) =>
              dataset.group.includes(name[0]) || (dataset.group === "M" && name.startsWith("LFE")),
          )
        : [],
    });
  else if (dataset.clear !== undefined)
    document.dispatchEvent(new KeyboardEvent("keydown", { key: "0" }));
  else if (dataset.reset !== undefined) {
    player.send({ do: "reset" });
    past.heard = [];
  } else if (dataset.preset) player.set({ monitor: { ...monitor, ...JSON.parse(dataset.preset) } });
  else if (dataset.blind !== undefined) {
    blind = !blind;
    player.send({ do: "blind", on: blind });
    player.set(blind ? { comparing: true, active: "x" } : { active: "a" });
    if (blind) find(".score").textContent = "";
    if (blind && !player.playing) {
      await player.play();
      player.send({ do: "blind", on: true });
    }
  } else if (dataset.answer) player.send({ do: "answer", side: dataset.answer });
  else if (dataset.pair)
    player.monitor({
      virtual_pair: { ...monitor.virtual_pair, left_deg: +dataset.pair, right_deg: -dataset.pair },
    });
  else if (dataset.correct !== undefined) {
    const chosen = find('[data-bind="monitor.correction.response"]');
    if (!monitor.correction?.response && !chosen.value) chosen.selectedIndex = 1;
    put("monitor.correction", monitor.correction?.response ? null : { response: chosen.value });
  } else if (button.matches(".pole")) {
    const row = button.closest("tr");
    speaker(+row.dataset.channel, { inverted: button.getAttribute("aria-pressed") !== "true" });
  } else if (dataset.testOne !== undefined) {
    const channel = +button.closest("tr").dataset.channel + 1;
    const on = get("monitor.loudspeakers.test_channel") !== channel;
    player.monitor({
      through: "loudspeakers",
      loudspeakers: {
        ...monitor.loudspeakers,
        test: on ? "noise" : "off",
        test_channel: on ? channel : null,
      },
    });
    if (on && !player.playing) player.play();
  } else if (dataset.choose === "monitor.loudspeakers.test") {
    player.monitor({
      through: button.value === "off" ? monitor.through : "loudspeakers",
      loudspeakers: { ...monitor.loudspeakers, test: button.value, test_channel: null },
    });
  } else if (dataset.calibrate) {
    button.disabled = true;
    const body = new FormData();
    body.append("loudspeakers", JSON.stringify(monitor.loudspeakers ?? {}));
    const answer = await fetch(dataset.calibrate, { method: "POST", headers: csrf(), body });
    button.disabled = false;
    if (!answer.ok)
      return say("The room could not be measured; choose a layout and try again.", true);
    const { loudspeakers, told } = await answer.json();
    board.mended = loudspeakers;
    find(".told").replaceChildren(
      ...told.map((words) => Object.assign(document.createElement("li"), { textContent: words })),
    );
    find("[data-apply]").hidden = false;
  } else if (dataset.apply !== undefined) {
    player.monitor({
      loudspeakers: { ...monitor.loudspeakers, ...board.mended, test: "off", test_channel: null },
    });
    say("The loudspeakers are set. Walk the test signal to hear that each is where it should be.");
  }
});

document.addEventListener("change", async ({ target: field }) => {
  if (!board?.contains(field)) return;
  if (field.matches("[data-room]"))
    put("monitor.binaural", { ...player.state.monitor.binaural, room: field.checked ? {} : null });
  else if (field.matches("[data-worn]")) player.monitor({ worn: field.checked });
  else if (field.matches(".output")) {
    const number = parseInt(field.value, 10);
    if (number >= 1 && number <= 64)
      speaker(+field.closest("tr").dataset.channel, { output: number });
    else speakers();
  } else if (field.dataset.bring && field.files.length) {
    const body = new FormData();
    body.append("file", field.files[0]);
    const answer = await fetch(field.dataset.bring, {
      method: "POST",
      headers: { ...csrf(), "HX-Request": "true" },
      body,
    });
    if (answer.ok) {
      const { name } = await answer.json();
      say(`${name} is here.`);
      document.dispatchEvent(new CustomEvent("mix-changed", { detail: {} }));
    } else {
      const said = JSON.parse(answer.headers.get("HX-Trigger") ?? "{}").say?.message;
      say(said ?? "This file could not be taken in.", true);
    }
    field.value = "";
  }
});
for (const kind of ["commit", "dragging"]) {
  document.addEventListener(kind, ({ target: input }) => {
    const name = input.dataset?.loudspeaker;
    const number = name ? takeNumber(input) : null;
    if (number !== null) speaker(+input.closest("tr").dataset.channel, { [name]: number });
  });
}
document.addEventListener(
  "submit",
  (event) => {
    if (event.target.matches("[data-keep-preset]"))
      event.target.elements.monitor.value = JSON.stringify(player.state.monitor);
  },
  true,
);
document.addEventListener("pointerdown", (event) => {
  if (!event.target.matches?.('[data-draw="story"]')) return;
  const span = event.target.getBoundingClientRect();
  player.jump(((event.clientX - span.left - 30) / (span.width - 30)) * player.frames());
});

// --- in step --------------------------------------------------------------------------------

player.addEventListener("reading", ({ detail: { readings } }) => {
  if (!board || readings.blind) return;
  addBands(readings.bands, readings.steps.length);
  for (const side of ["a", "b"]) {
    const applied = board.querySelector(`[data-applied="${side}"]`);
    if (applied && readings.matched_db)
      applied.textContent = `${signed(readings.matched_db[side])} dB`;
  }
});
let turn = 0;
inStep(() => board && draw(turn++ % 3 !== 0));
player.addEventListener("transport", () => draw());
player.addEventListener("state", settings);
const status = () => {
  const { load, lead_ms } = player.status ?? {};
  if (board && load !== undefined)
    find(".load").textContent =
      `${Math.round(load * 100)} % of real time, ${lead_ms} ms ahead${player.gaps ? `, ${player.gaps} gaps` : ""}`;
};
player.addEventListener("status", status);
document.addEventListener("sources-loaded", settings);
document.addEventListener("htmx:afterSettle", () => {
  begin();
});
document.addEventListener("theme-changed", () => {
  const found = board;
  board = null;
  if (found) begin();
});
addEventListener("resize", () => draw());
begin();
