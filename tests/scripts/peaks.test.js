import assert from "node:assert/strict";
import { test } from "node:test";
import { columns, exponentFor } from "../../src/metaphon/web/intake/static/intake/peaks.js";

test("stretches are just finer than a column", () => {
  assert.equal(exponentFor(0.2), 0);
  assert.equal(exponentFor(1), 0);
  assert.equal(exponentFor(300), 8);
  assert.equal(exponentFor(1e12), 24);
});
test("a column shows the lowest and highest of all stretches that it covers", () => {
  const stretches = [
    [-1, 2],
    [-3, 1],
    [0, 7],
    [-2, -1],
    [-9, 9],
  ].map((pair) => pair.map((v) => v * 32767));
  const read = (n) => stretches[n] ?? null;
  assert.deepEqual(columns(0, 8, 2, 4, read), [
    [-3, 2],
    [-2, 7],
  ]);
  assert.deepEqual(columns(2, 4, 2, 4, read), [
    [-3, 2],
    [-3, 7],
  ]);
});
test("past the end, and where nothing is there yet, nothing is drawn", () => {
  assert.deepEqual(
    columns(0, 4, 3, 4, (n) => (n === 1 ? [0, 32767] : null)),
    [null, [0, 1], null],
  );
});
test("closer than a sample, each column shows the one it lies in", () => {
  const read = (n) => [n * 32767, n * 32767];
  assert.deepEqual(
    columns(1, 0.25, 5, 1, read).map(([low]) => low),
    [1, 1, 1, 1, 2],
  );
});
