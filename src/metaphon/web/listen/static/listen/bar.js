// The listen bar: transport, what is heard, and the few figures that are always in view.
// It stays in place while workspaces change, so the sound goes on.

import { read, shown } from "./timecode.js";
import "./ab.js";
import { player } from "./player.js";
import { send } from "../shell/edit.js";
import { fetchText } from "../shell/fetch_text.js";

const bar = document.getElementById("listen");
const MINUS = "\u2212";
export const signed = (value, digits = 1) =>
  value == null ? "\u2013" : value.toFixed(digits).replace("-", MINUS);
export const say = (message, refused = false, link = null) =>
  document.dispatchEvent(new CustomEvent("say", { detail: { message, refused, link } }));
export const colour = (name) =>
  getComputedStyle(document.documentElement).getPropertyValue(name).trim();
export const CHECKS = [
  ["mono", "Mono", "1"],
  ["side", "Side", "2"],
  ["left_only", "Left", "3"],
  ["right_only", "Right", "4"],
  ["swapped", "Swap", "5"],
  ["right_inverted", "\u00f8 right", "6"],
];
export const LEVELS = [0, -6, -12, -20]; // calibrated monitor levels, one key apart

// What was heard so far, ten readings a second of the mix: {m: momentary, c: correlation}.
export const past = { heard: [], rendered: null };

export function sized(canvas) {
  const ratio = devicePixelRatio;
  const { clientWidth: width, clientHeight: height } = canvas;
  if (canvas.width !== Math.round(width * ratio))
    [canvas.width, canvas.height] = [Math.round(width * ratio), Math.round(height * ratio)];
  const pen = canvas.getContext("2d");
  pen.setTransform(ratio, 0, 0, ratio, 0, 0);
  pen.clearRect(0, 0, width, height);
  return { pen, width, height };
}

export function toggleCheck(name) {
  const { checks } = player.state.monitor;
  player.monitor({ checks: { ...checks, [name]: !checks[name] } });
}
export function toggleKind(kind) {
  const now = player.state.monitor_sources[player.side];
  player.setMonitorSource({ ...now, kinds: now.kinds === kind ? "all" : kind });
}

// Calls back thirty times a second while there is sound.
const drawing = [];
let last = 0;
export const inStep = (callback) => drawing.push(callback);
function turn(now) {
  if (now - last > 30) {
    last = now;
    drawing.forEach((callback) => callback());
  }
  if (player.playing) requestAnimationFrame(turn);
}
player.addEventListener("transport", () => player.playing && requestAnimationFrame(turn));

if (bar) start();

function start() {
  const find = (selector) => bar.querySelector(selector);
  const [play, loop, clock, form, scrub, canvas, needle, level, select, chips] = [
    ".play",
    "[data-loop]",
    ".now",
    "[data-clock]",
    ".scrub",
    ".scrub canvas",
    ".needle",
    ".level",
    "[data-monitor-source]",
    ".chips",
  ].map(find);
  const figures = Object.fromEntries(
    [...bar.querySelectorAll("[data-figure]")].map((el) => [el.dataset.figure, el]),
  );
  let frames = 0;
  const formName = `clock ${bar.dataset.mix}`;
  const timeShown = (at) => shown(at, player.rate, form.value, sources.starts_s);
  let sources = { groups: [], history: {} };
  player.start({
    address: bar.dataset.live,
    rate: +bar.dataset.rate,
    frames: () => frames,
    key: `listen:${bar.dataset.mix}`,
  });

  const text = (el, value) => {
    if (el.textContent !== value) el.textContent = value;
  };
  const sameSource = (one, other) =>
    JSON.stringify(Object.entries(one).sort()) === JSON.stringify(Object.entries(other).sort());

  async function load() {
    const text = await fetchText(bar.dataset.sources);
    if (text === null) return;
    sources = JSON.parse(text);
    frames = sources.frames;
    player.sources = sources;
    // loudspeakers are those that the mix is made for, until others are chosen
    const { monitor } = player.state;
    if (!monitor.loudspeakers?.layout)
      player.set({
        monitor: {
          ...monitor,
          loudspeakers: { ...monitor.loudspeakers, layout: sources.own_layout },
        },
      });
    // a mix that begins at a time of its own is counted in its frames, unless another form was chosen for it
    const own = sources.starts_s ? sources.frame_rate : "clock";
    form.value = localStorage.getItem(formName) ?? own;
    select.replaceChildren(
      ...sources.groups.map(({ title, items }) => {
        const group = document.createElement("optgroup");
        group.label = title;
        group.append(
          ...items.map((item) => new Option(item.title, JSON.stringify(item.monitor_source))),
        );
        return group;
      }),
    );
    select.disabled = play.disabled = !frames;
    if (!frames) select.replaceChildren(new Option("Nothing to hear yet", "{}"));
    scrub.setAttribute("aria-valuemax", (frames / player.rate).toFixed(1));
    const held = player.state.monitor_sources.a;
    const known = sources.groups.flatMap((g) => g.items);
    if (
      held.source &&
      held.source !== "now" &&
      !known.some((item) => item.monitor_source.source === held.source)
    )
      player.setMonitorSource({}, "a");
    if (!held.target && known.length) player.setMonitorSource(known[0].monitor_source, "a");
    document.dispatchEvent(new Event("sources-loaded"));
    settings();
  }

  // Shows the settings as they are.
  function settings() {
    const { monitor, comparing, active } = player.state;
    const monitorSource = player.state.monitor_sources[player.side];
    const option = [...select.querySelectorAll("option")].find((o) =>
      sameSource(JSON.parse(o.value || "{}"), clean(monitorSource)),
    );
    if (option) select.value = option.value;
    else if (frames && monitorSource.target) {
      select.querySelector("[data-own]")?.remove();
      const own = new Option(named(monitorSource), JSON.stringify(clean(monitorSource)));
      own.dataset.own = "";
      select.append(own);
      select.value = own.value;
    }
    past.rendered = sources.history[monitorSource.target] ?? null;
    const on = CHECKS.filter(([name]) => monitor.checks[name]).map(([name, title]) => [
      title,
      () => toggleCheck(name),
    ]);
    if (monitorSource.kinds && monitorSource.kinds !== "all")
      on.push([
        monitorSource.kinds === "beds" ? "Beds only" : "Objects only",
        () => toggleKind(monitorSource.kinds),
      ]);
    if (monitorSource.stand_in)
      on.push([
        "Test signal",
        () =>
          player.setMonitorSource({
            ...monitorSource,
            stand_in: undefined,
            what: "mix",
            strip: undefined,
          }),
      ]);
    const { alternative, personal, objects, ...asMixed } = monitorSource;
    if (objects)
      on.push([
        `${objects} objects`,
        () => player.setMonitorSource({ ...asMixed, alternative, personal }),
      ]);
    if (alternative || personal?.length)
      on.push([
        sources.alternatives?.[alternative] ?? "As a listener",
        () => player.setMonitorSource({ ...asMixed, objects }),
      ]);
    if (monitor.silent.length || monitor.alone.length)
      on.push(["Channels", () => player.monitor({ silent: [], alone: [] })]);
    if (monitor.through !== "plain")
      on.push([
        {
          binaural: "Binaural",
          virtual_pair: "Virtual pair",
          loudspeakers: "Loudspeakers",
          speaker: monitor.speaker?.replace(/^./, (first) => first.toUpperCase()).replace("_", " "),
        }[monitor.through],
        () => player.monitor({ through: "plain", match_db: 0 }),
      ]);
    else if (monitor.match_db)
      on.push([`Matched ${signed(monitor.match_db)} dB`, () => player.monitor({ match_db: 0 })]);
    if (monitor.correction?.response)
      on.push(["Corrected", () => player.monitor({ correction: null })]);
    if (monitor.dimmed) on.push(["Dim", () => player.monitor({ dimmed: false })]);
    if (monitor.level_db)
      on.push([`${signed(monitor.level_db, 0)} dB`, () => player.monitor({ level_db: 0 })]);
    if (player.unheard)
      on.unshift([
        `${player.unheard} loudspeakers without an output`,
        () => player.monitor({ through: "binaural" }),
        "This computer has too few outputs; press to hear all of them on headphones",
      ]);
    if (comparing)
      on.unshift([active.toUpperCase(), () => player.set({ comparing: false, active: "a" })]);
    chips.replaceChildren(
      ...on.map(([title, off, help = `${title} is on; press to turn it off`]) => {
        const chip = document.createElement("button");
        chip.className = "chip";
        chip.textContent = title;
        chip.title = help;
        chip.onclick = off;
        return chip;
      }),
    );
    loop.setAttribute("aria-pressed", String(Boolean(player.state.loop)));
    show();
  }
  const clean = (monitorSource) =>
    Object.fromEntries(
      Object.entries(monitorSource).filter(
        ([name, value]) =>
          value != null &&
          value !== "" &&
          name !== "alternative" &&
          name !== "personal" &&
          name !== "objects" &&
          !(name === "what" && value === "mix") &&
          !(name === "kinds" && value === "all") &&
          !(name === "chains" && value) &&
          !(name === "source" && value === "now"),
      ),
    );
  const named = (monitorSource) =>
    [
      monitorSource.strip ?? "",
      { stem: "stem", alone: "alone", before: "before its chain" }[monitorSource.what] ?? "",
      monitorSource.kinds && monitorSource.kinds !== "all" ? monitorSource.kinds : "",
      monitorSource.chains === false ? "chains off" : "",
      monitorSource.source ?? "",
      monitorSource.target,
    ]
      .filter(Boolean)
      .join(", ");

  function show(slowly = false) {
    const at = player.position;
    if (document.activeElement !== clock) clock.value = timeShown(at);
    scrub.setAttribute("aria-valuenow", (at / player.rate).toFixed(1));
    const step = player.step;
    const readings = player.playing ? player.current?.readings : null;
    const alike = step?.correlation;
    needle.classList.toggle("out", (alike ?? 0) < 0);
    needle.style.visibility = alike == null ? "hidden" : "visible";
    for (const end of ["x1", "x2"]) needle.setAttribute(end, 60 + (alike ?? 0) * 54);
    text(figures.correlation, signed(alike, 2));
    if (readings && !readings.blind) {
      text(figures.momentary, signed(readings.momentary));
      text(figures.integrated, signed(readings.integrated));
      text(figures.true_peak, signed(Math.max(...readings.true_peak)));
    }
    drawLevel(step);
    if (!slowly) drawLine(at);
  }

  function drawLevel(step) {
    const { pen, width, height } = sized(level);
    const peaks = step?.peak ?? [];
    const each = height / Math.max(peaks.length, 2);
    const x = (db) => (Math.max(0, db + 60) / 60) * width;
    pen.fillStyle = colour("--rule");
    for (let i = 0; i < Math.max(peaks.length, 2); i++)
      pen.fillRect(0, i * each, width, Math.max(each - 1, 1));
    peaks.forEach((db, i) => {
      pen.fillStyle = db > 0 ? colour("--coral") : colour("--kelp");
      pen.fillRect(0, i * each, Math.min(x(db), width), Math.max(each - 1, 1));
    });
  }

  // Loudness over the whole mix: what was rendered faint, what was heard on top; coral where the sides disagree.
  function drawLine(at) {
    const { pen, width, height } = sized(canvas);
    pen.fillStyle = colour("--ground");
    pen.fillRect(0, 0, width, height);
    if (!frames) return;
    const tenths = Math.ceil((frames / player.rate) * 10);
    const column = (values, x, pick) => {
      let found = null;
      for (
        let i = Math.floor((x / width) * tenths);
        i <= Math.floor(((x + 1) / width) * tenths);
        i++
      ) {
        const value = values[i];
        if (value != null && (found == null || pick(value, found))) found = value;
      }
      return found;
    };
    const rendered = past.rendered ?? {};
    const layers = [
      [rendered.momentary_lufs ?? [], rendered.correlation ?? [], 0.3],
      [past.heard.map((r) => r?.m), past.heard.map((r) => r?.c), 0.8],
    ];
    for (const [loudness, alike, alpha] of layers) {
      pen.globalAlpha = alpha;
      for (let x = 0; x < width; x++) {
        const top = column(loudness, x, (a, b) => a > b);
        if (top != null) {
          const tall = Math.max(0, (top + 60) / 60) * (height - 6);
          pen.fillStyle = colourOf.kelp;
          pen.fillRect(x, height - 6 - tall, 1, tall);
        }
        const worst = column(alike, x, (a, b) => a < b);
        if (worst != null && worst < 0) {
          pen.fillStyle = colourOf.coral;
          pen.fillRect(x, height - 4, 1, 4);
        }
      }
    }
    pen.globalAlpha = 1;
    pen.fillStyle = colour("--brass");
    for (const { at_s } of sources.markers ?? [])
      pen.fillRect(((at_s * player.rate) / frames) * width, 0, 1, 7);
    pen.fillStyle = colour("--kelp");
    for (const { start_s, end_s } of sources.remarks ?? []) {
      const [from, to] = [start_s, end_s ?? start_s].map(
        (s) => ((s * player.rate) / frames) * width,
      );
      pen.fillRect(from - 1, height - 4, Math.max(to - from, 3), 4);
    }
    if (player.state.loop) {
      const [from, to] = player.state.loop.map((frame) => (frame / frames) * width);
      pen.strokeStyle = colourOf.brass;
      pen.strokeRect(from + 0.5, 0.5, Math.max(to - from - 1, 1), height - 1);
    }
    pen.fillStyle = colourOf.ink;
    pen.fillRect(Math.min((at / frames) * width, width - 1), 0, 1, height);
  }
  let colourOf = {};
  const colours = () =>
    (colourOf = Object.fromEntries(
      ["kelp", "coral", "brass", "ink"].map((name) => [name, colour(`--${name}`)]),
    ));
  colours();

  let count = 0;
  inStep(() => show(count++ % 4 !== 0));

  player.addEventListener("transport", () => {
    text(play, player.playing ? "Pause" : "Play");
    marks();
    show();
  });
  player.addEventListener("state", () => {
    settings();
    marks();
  });
  player.addEventListener("said", ({ detail }) => say(detail, true));
  player.addEventListener("reading", ({ detail }) => {
    const { readings, first } = detail;
    if (readings.blind) return;
    past.heard[Math.floor((first / player.rate) * 10)] = {
      m: readings.momentary,
      c: readings.steps[0]?.correlation,
    };
  });
  let told = 0;
  player.addEventListener("status", ({ detail }) => {
    if (!detail.dearest || Date.now() - told < 20000) return;
    told = Date.now();
    const [strip, share] = detail.dearest[0];
    const { name, address } = sources.strips[strip] ?? { name: strip };
    say(
      `This mix is too heavy to play without gaps (${Math.round(detail.load * 100)} % of the time there is). ${name} costs most, ${Math.round(share * 100)} %.`,
      true,
      address && { words: "Print it", address },
    );
  });

  // the buttons that hear a finished result, wherever they are on the page
  function marks() {
    document
      .querySelectorAll("[data-hear]")
      .forEach((button) =>
        button.setAttribute(
          "aria-pressed",
          String(player.playing && player.state.monitor_sources.a.source === button.dataset.hear),
        ),
      );
  }
  document.addEventListener("click", (event) => {
    const button = event.target.closest?.("[data-hear], [data-hear-strip]");
    if (!button) return;
    const source = button.dataset.hear;
    if (source && player.playing && player.state.monitor_sources.a.source === source) {
      player.pause();
      return;
    }
    const target = button.dataset.target ?? "0+2+0";
    player.set({ comparing: false, active: "a" });
    player.setMonitorSource(
      source
        ? { target: target === "binaural" ? "0+2+0" : target, source }
        : { target, what: button.dataset.what, strip: button.dataset.hearStrip },
      "a",
    );
    if (!player.playing) player.play();
  });

  // a state of the history against the mix as it is now
  document.addEventListener("click", ({ target }) => {
    const button = target.closest?.("[data-compare]");
    if (!button) return;
    const { source, ...now } = player.state.monitor_sources.a;
    player.set({
      monitor_sources: { a: now, b: { ...now, source: button.dataset.compare } },
      comparing: true,
      active: "b",
    });
    if (!player.playing) player.play();
  });

  // a place of the mix, in seconds
  document.addEventListener("click", ({ target }) => {
    const button = target.closest?.("[data-jump]");
    if (button) player.jump(+button.dataset.jump * player.rate);
  });

  // markers
  function setMarker() {
    if (!bar.dataset.editUrl) return say("You may listen to this mix, not change it.", true);
    const at_s = Math.round((player.position / player.rate) * 1000) / 1000;
    send({ kind: "add_marker", at_s }, document.getElementById("tracks") ?? bar);
    say(`Marker set at ${timeShown(player.position)}.`);
  }
  function toMarker(before) {
    const places = (sources.markers ?? []).map(({ at_s }) => Math.round(at_s * player.rate));
    const near = player.playing ? player.rate / 2 : 1; // while it plays, twice goes back twice
    const found = before
      ? places.filter((at) => at < player.position - near).pop()
      : places.find((at) => at > player.position + 1);
    if (found !== undefined) player.jump(found);
  }
  document.addEventListener(
    "click",
    ({ target }) => target.closest?.("[data-add-marker]") && setMarker(),
  );

  play.onclick = () => player.toggle();
  find("[data-start]").onclick = () => player.jump(player.state.loop?.[0] ?? 0);
  loop.onclick = () => player.set({ loop: player.state.loop ? null : [0, frames] });
  select.onchange = () => player.setMonitorSource(JSON.parse(select.value));
  form.onchange = () => {
    localStorage.setItem(formName, form.value);
    show();
  };
  clock.onfocus = () => clock.select();
  clock.onkeydown = (event) => {
    if (event.key === "Escape") clock.blur();
    if (event.key !== "Enter") return;
    const at = read(clock.value, player.rate, form.value, sources.starts_s);
    if (at === null || at > frames)
      return say("There is no such place in the mix; type it as it is shown.", true);
    clock.blur();
    player.jump(at);
  };
  const place = (event) => {
    const span = scrub.getBoundingClientRect();
    return Math.round(Math.min(Math.max((event.clientX - span.left) / span.width, 0), 1) * frames);
  };
  scrub.onpointerdown = (event) => {
    if (!frames) return;
    scrub.setPointerCapture(event.pointerId);
    const from = place(event);
    if (!event.shiftKey) player.jump(from);
    scrub.onpointermove = (move) => {
      if (event.shiftKey) {
        const span = [from, place(move)].sort((a, b) => a - b);
        if (span[1] - span[0] > player.rate / 10) player.set({ loop: span });
      } else player.jump(place(move));
    };
  };
  scrub.onpointerup = scrub.onpointercancel = () => (scrub.onpointermove = null);
  scrub.ondblclick = () => player.set({ loop: null });
  scrub.onkeydown = (event) => {
    const step = { ArrowLeft: -1, ArrowRight: 1, PageDown: -10, PageUp: 10 }[event.key];
    if (step) player.jump(player.position + step * player.rate);
    else if (event.key === "Home") player.jump(0);
    else if (event.key === "End") player.jump(frames);
    else return;
    event.preventDefault();
  };

  document.addEventListener("keydown", (event) => {
    if (
      event.target.matches?.("input:not([type=checkbox]), select, textarea") ||
      event.ctrlKey ||
      event.metaKey ||
      event.altKey ||
      !frames
    )
      return;
    const { monitor, comparing, active } = player.state;
    const check = CHECKS.find(([, , key]) => key === event.key);
    const at = LEVELS.indexOf(monitor.level_db);
    if (check) toggleCheck(check[0]);
    else if (event.key === "7") toggleKind("beds");
    else if (event.key === "8") toggleKind("objects");
    else if (event.key === "9") player.monitor({ dimmed: !monitor.dimmed });
    else if (event.key === "0") {
      const { kinds, ...rest } = player.state.monitor_sources[player.side];
      player.setMonitorSource(rest);
      player.monitor({ checks: {}, silent: [], alone: [], dimmed: false });
    } else if (event.key === "+" || event.key === "-")
      player.monitor({
        level_db:
          LEVELS[
            Math.min(
              Math.max((at < 0 ? 0 : at) + (event.key === "-" ? 1 : -1), 0),
              LEVELS.length - 1,
            )
          ],
      });
    else if (event.key === "l") loop.click();
    else if (event.key === "m" && !event.target.closest?.(".node")) setMarker();
    else if (event.key === "n" || event.key === "N") toMarker(event.key === "N");
    else if (event.key === "b" && comparing) player.set({ active: active === "a" ? "b" : "a" });
    else return;
    event.preventDefault();
  });

  let asked = null;
  const again = () => {
    clearTimeout(asked);
    asked = setTimeout(load, frames ? 1500 : 0); // the first sound is wanted at once
  };
  for (const name of ["renders-changed", "mix-edited", "mix-changed", "remarks-changed"])
    document.addEventListener(name, again);
  document.addEventListener("htmx:afterSettle", marks);
  document.addEventListener("theme-changed", () => {
    colours();
    show();
  });
  addEventListener("resize", () => show());
  load();
}
