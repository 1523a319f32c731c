// Records what a page's sink plays for some seconds; gives the samples of the first channel as text, and the time of
// the first by the clock of the machine, in seconds.
async (seconds) => {
  const { player } = await import("/static/listen/player.js");
  const { context, sink } = player;
  const recorder = `registerProcessor("recorder-of-tests", class extends AudioWorkletProcessor {
    constructor({ processorOptions: { frames } }) {
      super();
      this.held = new Int16Array(frames);
      this.filled = 0;
    }
    process([[samples]]) {
      this.first ??= currentTime;
      for (let i = 0; i < 128 && this.filled < this.held.length; i++)
        this.held[this.filled++] = samples ? samples[i] * 32767 : 0;
      if (this.filled < this.held.length) return true;
      this.port.postMessage({ first: this.first, held: this.held });
      return false;
    }
  });`;
  if (!window.recorderOfTests)
    await context.audioWorklet.addModule(
      URL.createObjectURL(new Blob([recorder], { type: "text/javascript" })),
    );
  window.recorderOfTests = true;
  const frames = seconds * context.sampleRate;
  const node = new AudioWorkletNode(context, "recorder-of-tests", { processorOptions: { frames } });
  sink.connect(node);
  node.connect(context.destination);
  const { first, held } = await new Promise((done) => {
    node.port.onmessage = ({ data }) => done(data);
  });
  sink.disconnect(node);
  node.disconnect();
  const { contextTime, performanceTime } = context.getOutputTimestamp();
  const began = (performance.timeOrigin + performanceTime) / 1000 + first - contextTime;
  const bytes = new Uint8Array(held.buffer);
  let text = "";
  for (let n = 0; n < bytes.length; n += 8192)
    text += String.fromCharCode(...bytes.subarray(n, n + 8192));
  return [began, btoa(text)];
};
