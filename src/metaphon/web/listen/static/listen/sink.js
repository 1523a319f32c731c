// Plays stretches of samples without a gap, and says how far it is. Runs in the browser's audio thread.
// In: {whole, channels, buffer, from}: floats frame by frame, of an epoch; {ended: true} after the last of one;
// {skip: frames} to go on so much farther, or to wait where it is below 0;
// {quiet: true} to fade out and forget; {feed: port} is where stretches come from besides the page.
// Out, about fifty times a second: {whole, frames, gaps, least}; frames counts what was played of this epoch, least is
// how few frames were left to play at any moment since the last time.

const FADE = 256;
const KEPT = 2048; // frames that are not skipped, so that there is something to go on with

class Sink extends AudioWorkletProcessor {
  constructor() {
    super();
    this.queue = [];
    this.epoch = 0;
    this.at = 0; // frames into the first stretch
    this.frames = 0;
    this.gaps = 0;
    this.least = Infinity;
    this.dry = true; // nothing has come yet, or the end was reached: running out is no gap
    this.leaving = null; // what is faded out: {queue, at, left}
    this.rising = 0;
    this.waits = 0; // frames of silence before it goes on
    this.since = 0;
    this.port.onmessage = ({ data }) => this.take(data);
  }

  take(message) {
    if (message.feed) {
      this.feed = message.feed;
      this.feed.onmessage = ({ data }) => this.take(data);
      return;
    }
    if (message.quiet) {
      this.leave();
      this.dry = true;
      return;
    }
    if (message.skip) {
      this.skip(message.skip);
      return;
    }
    if (message.ended) {
      this.last = true;
      return;
    }
    if (message.whole < this.epoch) return;
    if (message.whole > this.epoch) {
      this.leave();
      this.epoch = message.whole;
      this.frames = 0;
      this.rising = FADE;
      this.last = false;
    }
    this.queue.push({
      data: new Float32Array(message.buffer, message.from),
      channels: message.channels,
    });
    this.dry = false;
  }

  leave() {
    if (this.queue.length) this.leaving = { queue: this.queue, at: this.at, left: FADE };
    this.queue = [];
    this.at = 0;
  }

  // From one place to another of what is there, the old faded out while the new comes in.
  skip(frames) {
    if (this.dry || !this.queue.length) return;
    this.leaving = { queue: [...this.queue], at: this.at, left: FADE };
    this.rising = FADE;
    if (frames < 0) {
      this.waits = -frames;
      return;
    }
    let left = Math.min(frames, this.held() - KEPT);
    while (left > 0) {
      const { data, channels } = this.queue[0];
      const count = Math.min(left, data.length / channels - this.at);
      this.at += count;
      this.frames += count;
      left -= count;
      if (this.at === data.length / channels) {
        this.queue.shift();
        this.at = 0;
      }
    }
  }

  // How many frames are there to be played.
  held() {
    return this.queue.reduce((sum, { data, channels }) => sum + data.length / channels, -this.at);
  }

  process(_, [outputs]) {
    const wanted = outputs[0].length;
    if (this.waits > 0) {
      this.waits -= wanted;
      this.fadeOut(outputs, wanted);
      return true;
    }
    let filled = 0;
    while (filled < wanted && this.queue.length) {
      const { data, channels } = this.queue[0];
      const held = data.length / channels;
      const count = Math.min(wanted - filled, held - this.at);
      for (let i = 0; i < count; i++) {
        const gain = this.rising > 0 ? 1 - this.rising-- / FADE : 1;
        const from = (this.at + i) * channels;
        for (let c = 0; c < outputs.length; c++)
          outputs[c][filled + i] = c < channels ? data[from + c] * gain : 0;
      }
      filled += count;
      this.at += count;
      if (this.at === held) {
        this.queue.shift();
        this.at = 0;
      }
    }
    this.frames += filled;
    if (!this.dry && !this.last) this.least = Math.min(this.least, this.held());
    if (filled < wanted && !this.dry) {
      if (!this.last) this.gaps += 1;
      this.dry = true;
      this.rising = FADE;
    }
    this.fadeOut(outputs, wanted);
    this.since += wanted;
    if (this.since >= 1024) {
      const at = currentTime + wanted / sampleRate;
      const least = this.least === Infinity ? null : this.least;
      const report = { whole: this.epoch, frames: this.frames, gaps: this.gaps, least, at };
      this.port.postMessage(report);
      this.feed?.postMessage(report);
      this.since = 0;
      this.gaps = 0;
      this.least = Infinity;
    }
    return true;
  }

  fadeOut(outputs, wanted) {
    const old = this.leaving;
    for (let i = 0; old && i < wanted && old.left > 0 && old.queue.length; i++) {
      const { data, channels } = old.queue[0];
      const gain = old.left-- / FADE;
      for (let c = 0; c < Math.min(outputs.length, channels); c++)
        outputs[c][i] += data[old.at * channels + c] * gain;
      old.at += 1;
      if (old.at * channels === data.length) {
        old.queue.shift();
        old.at = 0;
      }
    }
    if (old && (old.left <= 0 || !old.queue.length)) this.leaving = null;
  }
}

registerProcessor("sink", Sink);
