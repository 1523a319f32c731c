// What is nudged is kept once, with its last value, and never later than another edit.
import assert from "node:assert/strict";
import { test } from "node:test";

import {
  keepNudged,
  nudge,
  nudgedOf,
  restingOf,
} from "../../src/metaphon/web/shell/static/shell/nudge.js";

// a clock that goes when it is told
let now = 0;
let timers = [];
globalThis.setTimeout = (act, ms) => {
  const timer = { act, at: now + ms };
  timers.push(timer);
  return timer;
};
globalThis.clearTimeout = (timer) => (timers = timers.filter((one) => one !== timer));
const pass = (ms) => {
  now += ms;
  const due = timers.filter((one) => one.at <= now);
  timers = timers.filter((one) => one.at > now);
  due.forEach((one) => one.act());
};
const kept = [];
const step = (of, value) => nudge(of, value, (last) => void kept.push([of, last]));

test("the last value is kept when the keys rest, and is there until then", () => {
  step("a", 1);
  pass(300);
  step("a", 2);
  pass(300);
  assert.deepEqual([kept.length, nudgedOf("a"), nudgedOf("b")], [0, 2, undefined]);
  pass(100);
  assert.deepEqual([kept.splice(0), nudgedOf("a")], [[["a", 2]], undefined]);
});

test("another thing nudged, or another edit, keeps the first at once", () => {
  step("a", 3);
  step("b", 1);
  assert.deepEqual(kept, [["a", 3]]);
  keepNudged();
  keepNudged();
  pass(1000);
  assert.deepEqual(kept.splice(0), [
    ["a", 3],
    ["b", 1],
  ]);
});

test("what is on its way is known until it is answered, and a later step longer", async () => {
  const answers = [];
  const later = (value) => nudge("a", value, () => new Promise((done) => answers.push(done)));
  later(5);
  keepNudged();
  assert.deepEqual([nudgedOf("a"), restingOf("a")], [5, undefined]);
  later(6);
  keepNudged();
  answers[0]();
  await Promise.resolve();
  await Promise.resolve();
  assert.equal(nudgedOf("a"), 6);
  answers[1]();
  await Promise.resolve();
  await Promise.resolve();
  assert.equal(nudgedOf("a"), undefined);
});
