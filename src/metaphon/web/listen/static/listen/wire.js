// The connection, in a thread of its own: sound goes straight to the sink, however busy the page is.
// From the page: {connect: address}, {send: message}, {sink: port}, {close: true}.
// To the page: {closed: true}, {text: message}, {stretch: header}. `whole` counts epochs over all connections.

let socket = null;
let sink = null;
let wanted = false; // what the server still sends of a beginning after a pause is not played
let base = 0;
let epoch = -1; // -1: on the way to another place, and what still comes from the old one is dropped
let top = 0;
let said = 0; // how far the server knows it to be
let fewest = null; // frames that were left to play at any moment since then

const REPORT = 4096; // frames; in between the server goes by the clock

onmessage = ({ data }) => {
  if (data.connect) connect(data.connect);
  else if (data.sink) {
    sink = data.sink;
    sink.onmessage = ({ data: { whole, frames, gaps, least } }) => {
      if (epoch < 0 || whole !== base + epoch) return;
      if (least !== null) fewest = Math.min(least, fewest ?? least);
      if (!gaps && frames < said + REPORT) return;
      said = frames;
      send({ do: "played", epoch, frames, gaps, least: fewest });
      fewest = null;
    };
  } else if (data.close) socket?.close();
  else if (data.send) {
    const { do: asked } = data.send;
    if (["play", "jump", "pause"].includes(asked)) [epoch, wanted] = [-1, asked !== "pause"];
    send(data.send);
  }
};

function send(message) {
  if (socket?.readyState === WebSocket.OPEN) socket.send(JSON.stringify(message));
}

function connect(address) {
  const mine = (socket = new WebSocket(address));
  socket.binaryType = "arraybuffer";
  socket.onclose = () => {
    if (mine !== socket) return;
    epoch = -1;
    postMessage({ closed: true });
  };
  socket.onmessage = ({ data }) => {
    if (mine !== socket) return;
    if (typeof data === "string") hear(JSON.parse(data));
    else receive(data);
  };
}

function hear(message) {
  if (message.ready) base = top + 1;
  if (wanted && message.epoch !== undefined && message.at !== undefined) {
    epoch = message.epoch;
    top = Math.max(top, base + epoch);
    message.whole = base + epoch;
    fewest = null;
    said = -REPORT; // the first report tells that sound flows
  }
  if (message.ended && message.epoch === epoch) sink?.postMessage({ ended: true });
  postMessage({ text: message });
}

function receive(data) {
  const length = new DataView(data).getUint32(0, true);
  const header = JSON.parse(new TextDecoder().decode(new Uint8Array(data, 4, length)));
  if (header.epoch !== epoch || !sink) return;
  header.whole = base + epoch;
  postMessage({ stretch: header });
  sink.postMessage(
    { whole: header.whole, channels: header.channels, buffer: data, from: 4 + length },
    [data],
  );
}
