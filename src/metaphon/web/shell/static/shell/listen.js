// The listen bar: plays rendered results and shows the readings of the very samples heard.
// It stays in place while workspaces change, so the sound goes on.

const bar = document.getElementById("listen");
if (bar) start();

function start() {
  const audio = bar.querySelector("audio");
  const select = bar.querySelector("select");
  const play = bar.querySelector(".play");
  const loop = bar.querySelector("[data-loop]");
  const clock = bar.querySelector("time .now");
  const scrub = bar.querySelector(".scrub");
  const canvas = bar.querySelector("canvas");
  const needle = bar.querySelector(".needle");
  const figures = Object.fromEntries([...bar.querySelectorAll("[data-figure]")].map((el) => [el.dataset.figure, el]));
  const staleNote = bar.querySelector(".stale");
  let sources = [];
  let current = null;

  const signed = (value, digits = 1) => (value == null ? "\u2013" : value.toFixed(digits).replace("-", "\u2212"));
  const text = (el, value) => {
    if (el.textContent !== value) el.textContent = value;
  };

  async function load(choose) {
    const answer = await fetch(bar.dataset.sources);
    if (!answer.ok) return;
    sources = (await answer.json()).sources;
    select.replaceChildren(
      ...sources.map((s) => new Option(s.heard_as ? `${s.title}, ${s.heard_as}` : s.title, s.id)),
    );
    select.disabled = play.disabled = !sources.length;
    if (!sources.length) select.append(new Option("Nothing rendered yet"));
    const wanted = sources.find((s) => s.id === choose) ?? sources.find((s) => current && s.title === current.title) ?? sources[0];
    if (wanted && wanted.id !== current?.id) use(wanted, !audio.paused);
    else if (wanted) current = wanted;
    note();
    draw();
  }

  function use(source, playing) {
    const at = current ? audio.currentTime : 0;
    current = source;
    select.value = source.id;
    audio.src = source.url;
    audio.currentTime = Math.min(at, source.duration_s);
    if (playing) audio.play();
    note();
    draw();
  }

  function note() {
    staleNote.hidden = !current?.out_of_date;
    document.querySelectorAll("[data-hear]").forEach((b) => b.setAttribute("aria-pressed", String(+b.dataset.hear === current?.id && !audio.paused)));
  }

  const reading = (name, delay) => {
    const values = current?.history?.[name] ?? [];
    return values[Math.floor(audio.currentTime * 10) - delay] ?? null;
  };

  function show() {
    const t = audio.currentTime;
    text(clock, `${String(Math.floor(t / 60)).padStart(2, "0")}:${(t % 60).toFixed(1).padStart(4, "0")}`);
    const correlation = reading("correlation", 0);
    needle.classList.toggle("out", (correlation ?? 0) < 0);
    needle.style.visibility = correlation == null ? "hidden" : "visible";
    const x = 60 + (correlation ?? 0) * 54;
    needle.setAttribute("x1", x);
    needle.setAttribute("x2", x);
    text(figures.correlation, signed(correlation, 2));
    text(figures.momentary, signed(reading("momentary_lufs", 3)));
    text(figures.integrated, signed(current?.integrated_lufs));
    text(figures.true_peak, signed(current?.true_peak_dbtp));
    scrub.setAttribute("aria-valuenow", t.toFixed(1));
    scrub.setAttribute("aria-valuemax", (current?.duration_s ?? 0).toFixed(1));
    draw();
    if (!audio.paused) requestAnimationFrame(show);
  }

  // Loudness over the whole result, and under it a coral mark wherever the correlation is below zero.
  function draw() {
    const style = getComputedStyle(document.documentElement);
    const colour = (name) => style.getPropertyValue(name).trim();
    const ratio = devicePixelRatio;
    const { clientWidth: width, clientHeight: height } = canvas;
    if (canvas.width !== width * ratio) [canvas.width, canvas.height] = [width * ratio, height * ratio];
    const pen = canvas.getContext("2d");
    pen.setTransform(ratio, 0, 0, ratio, 0, 0);
    pen.clearRect(0, 0, width, height);
    pen.fillStyle = colour("--ground");
    pen.fillRect(0, 0, width, height);
    const duration = current?.duration_s;
    if (!duration) return;
    const loudness = current.history.momentary_lufs ?? [];
    const correlation = current.history.correlation ?? [];
    pen.fillStyle = colour("--kelp");
    pen.globalAlpha = 0.55;
    for (let x = 0; x < width; x++) {
      const from = Math.floor((x / width) * loudness.length);
      const to = Math.max(from + 1, Math.floor(((x + 1) / width) * loudness.length));
      let top = -70;
      for (let i = from; i < to; i++) top = Math.max(top, loudness[i] ?? -70);
      const tall = Math.max(0, (top + 60) / 60) * (height - 6);
      pen.fillRect(x, height - 6 - tall, 1, tall);
    }
    pen.globalAlpha = 1;
    pen.fillStyle = colour("--coral");
    for (let x = 0; x < width; x++) {
      const from = Math.floor((x / width) * correlation.length);
      const to = Math.max(from + 1, Math.floor(((x + 1) / width) * correlation.length));
      if (correlation.slice(from, to).some((v) => v != null && v < 0)) pen.fillRect(x, height - 4, 1, 4);
    }
    pen.fillStyle = colour("--ink");
    pen.fillRect(Math.min((audio.currentTime / duration) * width, width - 1), 0, 1, height);
  }

  const seek = (time) => {
    audio.currentTime = Math.min(Math.max(time, 0), current?.duration_s ?? 0);
    show();
  };
  play.onclick = () => (audio.paused ? audio.play() : audio.pause());
  bar.querySelector("[data-start]").onclick = () => seek(0);
  loop.onclick = () => {
    audio.loop = !audio.loop;
    loop.setAttribute("aria-pressed", String(audio.loop));
  };
  select.onchange = () => use(sources.find((s) => s.id === +select.value), !audio.paused);
  audio.onplay = audio.onpause = () => {
    text(play, audio.paused ? "Play" : "Pause");
    note();
    show();
  };
  audio.onseeked = audio.onloadedmetadata = show;
  audio.onerror = () => document.dispatchEvent(new CustomEvent("say", { detail: { message: "This result cannot be played; render it again.", refused: true } }));
  const scrubTo = (event) => {
    const span = scrub.getBoundingClientRect();
    seek(((event.clientX - span.left) / span.width) * (current?.duration_s ?? 0));
  };
  scrub.onpointerdown = (event) => {
    scrub.setPointerCapture(event.pointerId);
    scrubTo(event);
    scrub.onpointermove = scrubTo;
  };
  scrub.onpointerup = scrub.onpointercancel = () => (scrub.onpointermove = null);
  scrub.onkeydown = (event) => {
    const step = { ArrowLeft: -1, ArrowRight: 1, PageDown: -10, PageUp: 10 }[event.key];
    if (step) {
      event.preventDefault();
      seek(audio.currentTime + step);
    }
    if (event.key === "Home") seek(0);
    if (event.key === "End") seek(current?.duration_s ?? 0);
  };
  document.addEventListener("click", (event) => {
    const button = event.target.closest?.("[data-hear]");
    if (!button) return;
    const source = sources.find((s) => s.id === +button.dataset.hear);
    if (!source) return;
    if (source.id === current?.id && !audio.paused) audio.pause();
    else if (source.id === current?.id) audio.play();
    else use(source, true);
  });
  document.addEventListener("renders-changed", () => load());
  document.addEventListener("htmx:afterSettle", note);
  document.addEventListener("mix-edited", () => {
    if (current) current.out_of_date = true;
    sources.forEach((s) => (s.out_of_date = true));
    note();
  });
  document.addEventListener("theme-changed", draw);
  addEventListener("resize", draw);
  load();
  show();
}
