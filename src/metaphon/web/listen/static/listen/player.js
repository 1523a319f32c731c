// The listener's side of live playing: one connection, one sink, and the settings. It outlives changes of page.
// Events: "state" (settings), "transport" (playing, position jumped), "reading" (new figures came), "said".

import { Places } from "./places.js";

const DEFAULT = {
  monitor_sources: { a: {}, b: {} },
  active: "a",
  comparing: false,
  matched: true,
  loop: null,
  monitor: { through: "plain", checks: {}, silent: [], alone: [], dimmed: false, level_db: 0 },
};
const AGAIN_MS = [200, 500, 1000, 2000, 5000];

// What a page or an earlier version has kept; nothing where that cannot be read.
function kept(key) {
  try {
    return JSON.parse(localStorage.getItem(key)) ?? {};
  } catch {
    return {};
  }
}

// Settings with a default for whatever is not there.
function whole(state) {
  return {
    ...structuredClone(DEFAULT),
    ...state,
    monitor: { ...structuredClone(DEFAULT.monitor), ...state.monitor },
    monitor_sources: { ...structuredClone(DEFAULT.monitor_sources), ...state.monitor_sources },
  };
}

class Player extends EventTarget {
  start({ address, rate, frames, key }) {
    Object.assign(this, { rate, frames, key });
    this.places = new Places(address);
    this.state = { ...whole(kept(key)), comparing: false, active: "a" };
    this.playing = false;
    this.place = 0; // where it stands while nothing plays, in frames of the mix
    this.spans = []; // stretches on their way: {epoch, stream, frames, first, readings}
    this.current = null;
    this.epoch = -1;
    this.tries = 0;
    this.gaps = 0;
    this.unheard = 0;
    this.status = {};
  }

  emit(type, detail) {
    this.dispatchEvent(new CustomEvent(type, { detail }));
  }

  connect() {
    if (this.connected) return this.ready;
    this.connected = true;
    if (!this.wire) {
      this.wire = new Worker(new URL("wire.js", import.meta.url));
      this.wire.onmessage = ({ data }) => {
        if (data.text) this.hear(data.text);
        else if (data.stretch) this.receive(data.stretch);
        else this.closed();
      };
    }
    this.answered = false;
    this.ready = new Promise((done) => (this.isReady = done));
    this.wire.postMessage({ connect: this.places.url });
    return this.ready;
  }

  closed() {
    this.connected = false;
    if (!this.answered) this.places.next();
    if (!this.playing) return;
    this.place = this.position;
    this.current = null;
    if (this.tries === 1)
      this.emit(
        "said",
        this.connectedOnce
          ? "The connection for listening was lost; it is being made again."
          : "The server for listening does not answer yet; the sound begins when it does.",
      );
    setTimeout(
      () => this.playing && this.resume(),
      AGAIN_MS[Math.min(this.tries++, AGAIN_MS.length - 1)],
    );
  }

  async resume() {
    this.connect();
    await this.ready;
    this.begin(this.position);
  }

  send(message) {
    if (this.connected) this.wire.postMessage({ send: message });
  }

  async open() {
    if (!this.context) {
      this.context = new AudioContext({ sampleRate: this.rate, latencyHint: "interactive" });
      await this.context.audioWorklet.addModule(new URL("sink.js", import.meta.url));
      const most = Math.max(2, this.context.destination.maxChannelCount);
      this.outputs = most;
      if (most > 2) {
        this.context.destination.channelCount = most;
        this.context.destination.channelInterpretation = "discrete";
      }
      this.sink = new AudioWorkletNode(this.context, "sink", {
        numberOfInputs: 0,
        outputChannelCount: [most],
      });
      this.sink.connect(this.context.destination);
      this.sink.port.onmessage = ({ data }) => this.played(data);
      const { port1, port2 } = new MessageChannel();
      this.sink.port.postMessage({ feed: port1 }, [port1]);
      this.connect();
      this.wire.postMessage({ sink: port2 }, [port2]);
    }
    await this.context.resume();
  }

  // Where the sound is that is heard now, in frames of the mix.
  get position() {
    if (!this.current) return this.place;
    const { first, stream, frames } = this.current;
    const late = (this.context.outputLatency || 0) * this.rate;
    return Math.round(Math.max(0, first + Math.min(this.heard - stream, frames) - late));
  }

  // The same to less than a report of the sink.
  get exactly() {
    if (!this.current || !this.playing) return this.position;
    const since = (this.context.currentTime - this.heardAt) * this.rate;
    return this.position + Math.min(Math.max(since, 0), 4096);
  }

  async play() {
    if (this.playing) return;
    this.playing = true;
    this.emit("transport");
    try {
      await this.open();
      this.connect();
      await this.ready;
      this.begin(this.place >= this.frames() ? (this.state.loop?.[0] ?? 0) : this.place);
    } catch {
      this.playing = false;
      this.emit("said", "This browser cannot play sound here; it needs a secure address.");
      this.emit("transport");
    }
  }

  begin(at) {
    if (!this.playing) return;
    this.place = at;
    this.current = null;
    this.spans = [];
    this.epoch = -1;
    this.send({ state: this.sent() });
    this.send({ do: "play", at });
  }

  pause() {
    if (!this.playing) return;
    this.place = this.position;
    this.playing = false;
    this.send({ do: "pause" });
    this.sink?.port.postMessage({ quiet: true });
    this.current = null;
    this.spans = [];
    this.emit("transport");
  }

  toggle() {
    if (this.playing) this.pause();
    else this.play();
  }

  jump(frame) {
    const at = Math.round(Math.min(Math.max(frame, 0), this.frames()));
    this.place = at;
    if (this.playing) {
      this.current = null;
      this.spans = [];
      this.epoch = -1;
      this.send({ do: "jump", at });
    }
    this.emit("transport");
  }

  // Go on some frames farther at once, or wait as long, without a new beginning.
  nudge(frames) {
    const skip = Math.round(frames);
    if (this.playing && skip) this.sink?.port.postMessage({ skip });
  }

  // Settings: kept for this mix in this browser, and sent whole; the engine takes over what has changed.
  set(change) {
    Object.assign(this.state, change);
    this.keep();
    this.send({ state: this.sent() });
    this.emit("state");
  }

  keep() {
    const { comparing, active, ...kept } = this.state;
    localStorage.setItem(this.key, JSON.stringify(kept));
  }

  // A setting that the server could not use; without a path, all of them.
  forget(path) {
    const owner = path.slice(0, -1).reduce((part, name) => part?.[name], this.state);
    if (owner) delete owner[path.at(-1)];
    this.state = whole(path.length ? this.state : {});
    this.keep();
    this.emit("state");
  }

  monitor(change) {
    this.set({ monitor: { ...this.state.monitor, ...change } });
  }

  setMonitorSource(change, side = this.side) {
    this.set({ monitor_sources: { ...this.state.monitor_sources, [side]: change } });
  }

  get side() {
    return this.state.comparing && this.state.active !== "x" ? this.state.active : "a";
  }

  sent() {
    return this.state;
  }

  // Let a command be heard before it is kept: while the hand moves, or with the id under which it is sent to be kept.
  preview(command, control, edit = null) {
    if (this.playing) this.send({ preview: command, control, edit });
  }

  // What a control said counts no longer.
  release(control) {
    if (this.playing) this.send({ release: control });
  }

  receive(header) {
    if (!this.playing || header.whole !== this.epoch) return; // on its way before a jump
    this.spans.push(header);
    const unheard = Math.max(header.channels - this.outputs, 0);
    if (unheard !== this.unheard) {
      this.unheard = unheard; // loudspeakers that this computer has no output for
      this.emit("state");
    }
  }

  hear(message) {
    if (message.ready) {
      this.tries = 0;
      this.answered = this.connectedOnce = true;
      this.isReady();
    }
    if (message.full && this.places.next()) {
      this.wire.postMessage({ close: true }); // and on with the next
      return;
    }
    if (message.whole !== undefined) {
      this.epoch = message.whole;
      this.place = message.at;
      this.places.isGood();
      this.ending = undefined;
    }
    if (message.ended) this.ending = message.stream;
    if (message.load !== undefined || message.gap) {
      Object.assign(this.status, { dearest: null }, message);
      this.emit("status", this.status);
    }
    if (message.blind) this.emit("blind", message.blind);
    if (message.forget) this.forget(message.forget);
    if (message.message) this.emit("said", message.message);
    if (message.stopped && this.playing) this.pause();
  }

  played({ whole, frames, gaps, at }) {
    if (whole !== this.epoch) return;
    this.heard = frames;
    this.heardAt = at;
    this.gaps += gaps;
    while (this.spans.length && this.spans[0].stream <= frames) {
      this.current = this.spans.shift();
      this.emit("reading", this.current);
    }
    if (this.ending !== undefined && frames >= this.ending) {
      this.ending = undefined;
      this.pause();
      this.place = this.frames();
      this.emit("transport");
    }
  }

  // The step of the readings that is sounding now.
  get step() {
    const steps = this.current?.readings.steps;
    if (!steps || !this.playing) return null;
    const late = (this.context.outputLatency || 0) * this.rate;
    return steps[
      Math.min(
        Math.max(Math.floor((this.heard - late - this.current.stream) / 1024), 0),
        steps.length - 1,
      )
    ];
  }
}

export const player = new Player();
