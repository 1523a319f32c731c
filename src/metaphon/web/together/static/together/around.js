// A page's light connection: who else is in this mix and where, what is new, and what they are listening to.
// Events: "state" (others, what is new), "heard" (somebody's place), "holds" (what somebody has in hand), "overwritten"
// (two have set the same).

import { Places } from "../listen/places.js";

const AGAIN_MS = [500, 1000, 2000, 5000];
const PINGS = 5; // the quickest of these tells the server's time best
const placeOf = () => location.pathname.split("/")[3] ?? "";

class Around extends EventTarget {
  wire = null;
  tries = 0;
  offset = null; // milliseconds that the server's clock is ahead of this one's
  best = Infinity;

  connect() {
    this.places ??= new Places(document.getElementById("others").dataset.around);
    this.wire = new WebSocket(this.places.url);
    this.wire.onopen = () => {
      this.tries = 0;
      this.best = Infinity;
      this.tellPlace();
      for (let n = 0; n < PINGS; n++) setTimeout(() => this.ping(), n * 150);
    };
    this.wire.onmessage = ({ data }) => this.hear(JSON.parse(data));
    this.wire.onclose = () => {
      this.places.next();
      setTimeout(() => this.connect(), AGAIN_MS[Math.min(this.tries++, AGAIN_MS.length - 1)]);
    };
  }

  tell(message) {
    if (this.wire?.readyState === WebSocket.OPEN) this.wire.send(JSON.stringify(message));
  }
  tellPlace() {
    this.tell({ place: placeOf() });
  }
  ping() {
    this.tell({ ping: performance.now() });
  }

  // The time of the server, in milliseconds.
  now() {
    return performance.now() + (this.offset ?? 0);
  }

  hear(message) {
    if (message.ping !== undefined) {
      const took = performance.now() - message.ping;
      if (took > this.best) return;
      this.best = took;
      this.offset = message.server - (message.ping + took / 2);
    } else {
      const kind = ["heard", "holds", "overwritten"].find((name) => name in message) ?? "state";
      this.dispatchEvent(new CustomEvent(kind, { detail: message }));
    }
  }
}

export const around = new Around();

let known = null;
around.addEventListener("state", ({ detail }) => {
  if (known && known !== detail.remarks)
    document.body.dispatchEvent(new Event("remarks-changed", { bubbles: true }));
  known = detail.remarks;
});
document.addEventListener("htmx:pushedIntoHistory", () => around.tellPlace());
around.connect();
