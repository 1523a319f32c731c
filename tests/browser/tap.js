// Listens in on what the sink plays: the level of the last samples, and how long until it changes.
async () => {
  const { player } = await import("/static/listen/player.js");
  const tap = player.context.createAnalyser();
  tap.fftSize = 512;
  player.sink.connect(tap);
  const samples = new Float32Array(512);
  const wait = (ms) => new Promise((done) => setTimeout(done, ms));
  window.level = () => {
    tap.getFloatTimeDomainData(samples);
    return Math.sqrt(samples.reduce((sum, x) => sum + x * x, 0) / samples.length);
  };
  // types a number into a control and gives the milliseconds until the level has changed by the ratio, or null
  window.untilHeard = async (label, text, ratio) => {
    let before = 0;
    for (let i = 0; i < 10; i++) {
      before += window.level() / 10;
      await wait(10);
    }
    const input = [...document.querySelectorAll("input.number")].find(
      (i) => i.getAttribute("aria-label") === label,
    );
    input.focus();
    input.value = text;
    const began = performance.now();
    input.dispatchEvent(new KeyboardEvent("keydown", { key: "Enter", bubbles: true }));
    while (performance.now() - began < 5000) {
      await wait(3);
      if (ratio < 1 ? window.level() < before * ratio : window.level() > before * ratio)
        return performance.now() - began;
    }
    return null;
  };
};
