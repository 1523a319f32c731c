// Records what a page's sink plays for some seconds; gives the samples of the first channel, and the time of the first
// by the clock of the machine, in seconds.
async (seconds) => {
  const { player } = await import("/static/listen/player.js");
  const { context, sink } = player;
  const recorder = `registerProcessor("recorder-of-tests", class extends AudioWorkletProcessor {
    process([[samples]]) {
      this.port.postMessage({ at: currentTime, samples: samples ?? new Float32Array(128) });
      return true;
    }
  });`;
  if (!window.recorderOfTests)
    await context.audioWorklet.addModule(
      URL.createObjectURL(new Blob([recorder], { type: "text/javascript" })),
    );
  window.recorderOfTests = true;
  const node = new AudioWorkletNode(context, "recorder-of-tests");
  sink.connect(node);
  node.connect(context.destination);
  const found = [];
  let first = null;
  await new Promise((done) => {
    node.port.onmessage = ({ data: { at, samples } }) => {
      first ??= at;
      found.push(...samples);
      if (found.length >= seconds * context.sampleRate) done();
    };
  });
  node.disconnect();
  const { contextTime, performanceTime } = context.getOutputTimestamp();
  const began = (performance.timeOrigin + performanceTime) / 1000 + first - contextTime;
  return [began, found];
};
