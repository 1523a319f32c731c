// What is under the arrow keys or the wheel: heard with each step, and kept when they rest, or before any other edit.
// What is drawn anew meanwhile does not take it back: whose it is asks for it with `nudgedOf`.

const REST_MS = 350;
let resting = null; // {of, value, keep, timer}
const onTheirWay = new Map(); // by what was nudged: those that the server has not answered yet

// `of` names what is nudged, whatever element it is drawn as; `keep` sends the last value, and gives the promise of an
// answer where the value is to be known until then.
export function nudge(of, value, keep) {
  if (resting?.of !== of) keepNudged();
  clearTimeout(resting?.timer);
  resting = { of, value, keep, timer: setTimeout(keepNudged, REST_MS) };
}

export const restingOf = (of) => (resting?.of === of ? resting.value : undefined);
export const nudgedOf = (of) => restingOf(of) ?? onTheirWay.get(of)?.value;

export function keepNudged() {
  if (!resting) return;
  const sent = resting;
  clearTimeout(sent.timer);
  resting = null;
  const answer = sent.keep(sent.value);
  if (!answer) return;
  onTheirWay.set(sent.of, sent);
  const answered = () => onTheirWay.get(sent.of) === sent && onTheirWay.delete(sent.of);
  answer.then(answered, answered);
}
