// What is under the arrow keys or the wheel: heard with each step, and kept when they rest, or before any other edit.
// What is drawn anew meanwhile does not take it back: whose it is asks for it with `nudgedOf`.

const REST_MS = 350;
let nudged = null; // {of, value, keep, timer}

// `of` names what is nudged, whatever element it is drawn as; `keep` sends the last value.
export function nudge(of, value, keep) {
  if (nudged?.of !== of) keepNudged();
  clearTimeout(nudged?.timer);
  nudged = { of, value, keep, timer: setTimeout(keepNudged, REST_MS) };
}

export const nudgedOf = (of) => (nudged?.of === of ? nudged.value : undefined);

export function keepNudged() {
  if (!nudged) return;
  const { value, keep, timer } = nudged;
  clearTimeout(timer);
  nudged = null;
  keep(value);
}
