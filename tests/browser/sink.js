// Feeds the sink by hand in a context that renders as it is told, and gives what it played and reported.
// steps: [{ at: seconds, send: [messages] }]; a message's `samples` are turned into the buffer that travels.
async ([steps, seconds]) => {
  const rate = 48000;
  const context = new OfflineAudioContext(2, seconds * rate, rate);
  await context.audioWorklet.addModule("/static/listen/sink.js");
  const sink = new AudioWorkletNode(context, "sink", {
    numberOfInputs: 0,
    outputChannelCount: [2],
  });
  sink.connect(context.destination);
  const reports = [];
  sink.port.onmessage = ({ data }) => reports.push(data);
  const wait = (ms) => new Promise((done) => setTimeout(done, ms));
  const send = ({ samples, ...rest }) => {
    if (!samples) return sink.port.postMessage(rest);
    const [first, slope, count, channels] = samples; // a straight line, the second channel upside down
    const data = new Float32Array(count * channels);
    for (let i = 0; i < count; i++)
      for (let c = 0; c < channels; c++)
        data[i * channels + c] = (c ? -1 : 1) * (first + slope * i);
    sink.port.postMessage({ ...rest, channels, buffer: data.buffer, from: 0 }, [data.buffer]);
  };
  for (const { at, send: messages } of steps) {
    const due = async () => {
      messages.forEach(send);
      await wait(60); // so that they have arrived before it goes on
    };
    if (at === 0) await due();
    else
      context
        .suspend(at)
        .then(due)
        .then(() => context.resume());
  }
  const played = await context.startRendering();
  await wait(60);
  return { left: [...played.getChannelData(0)], right: [...played.getChannelData(1)], reports };
};
