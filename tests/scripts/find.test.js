import assert from "node:assert/strict";
import { test } from "node:test";
import { found, rank } from "../../src/metaphon/web/shell/static/shell/find.js";

const items = [
  "Mute Gull",
  "Gull",
  "Gull: place",
  "Ship's horn",
  "Höfn choir",
  "Undo",
  "Solo Gull",
  "Bell buoy near",
].map((title) => ({ title }));
const titles = (typed) => found(typed, items).map((item) => item.title);

test("what begins with the words comes first", () => {
  assert.deepEqual(titles("gull"), ["Gull", "Gull: place", "Mute Gull", "Solo Gull"]);
});
test("words in any order, accents and capitals aside", () => {
  assert.deepEqual(titles("gull mu"), ["Mute Gull"]);
  assert.deepEqual(titles("HOFN"), ["Höfn choir"]);
  assert.deepEqual(titles("near bell"), ["Bell buoy near"]);
});
test("a sign of no meaning is taken as it is", () => {
  assert.equal(rank("(", "Gull"), null);
  assert.deepEqual(titles("p's"), ["Ship's horn"]);
});
test("nothing typed shows what is short first, and no more than asked for", () => {
  assert.equal(found("", items, 3).length, 3);
  assert.deepEqual(titles("walrus"), []);
});
