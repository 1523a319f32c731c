// Listens in on what the sink plays: the level of the last samples, and how long until it changes.
async () => {
  const { player } = await import("/static/listen/player.js");
  const KEPT = 16384; // samples that can be looked back on
  const WINDOW = 512; // of which the level is taken
  const tap = player.context.createAnalyser();
  tap.fftSize = KEPT;
  player.sink.connect(tap);
  const samples = new Float32Array(KEPT);
  const wait = (ms) => new Promise((done) => setTimeout(done, ms));
  const levelUpTo = (end) => {
    let sum = 0;
    for (let i = end - WINDOW; i < end; i++) sum += samples[i] * samples[i];
    return Math.sqrt(sum / WINDOW);
  };
  window.level = () => {
    tap.getFloatTimeDomainData(samples);
    return levelUpTo(KEPT);
  };
  // Types a number into a control and gives the milliseconds until the level of what is played has changed by the
  // ratio, or null. A page that is busy sees that late, so it looks back to when it was so first.
  window.untilHeard = async (label, text, ratio) => {
    let before = 0;
    for (let i = 0; i < 10; i++) {
      before += window.level() / 10;
      await wait(10);
    }
    const changed = (level) => (ratio < 1 ? level < before * ratio : level > before * ratio);
    const input = [...document.querySelectorAll("input.number")].find(
      (i) => i.getAttribute("aria-label") === label,
    );
    input.focus();
    input.value = text;
    const began = performance.now();
    input.dispatchEvent(new KeyboardEvent("keydown", { key: "Enter", bubbles: true }));
    while (performance.now() - began < 5000) {
      await wait(3);
      if (!changed(window.level())) continue;
      const took = performance.now() - began;
      let end = KEPT;
      while (end > WINDOW && changed(levelUpTo(end - 1))) end -= 1;
      return end > WINDOW ? took - ((KEPT - end) * 1000) / player.context.sampleRate : took;
    }
    return null;
  };
};
