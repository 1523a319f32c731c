// What a control says, made a command: the page's half of an edit, without a page.
import assert from "node:assert/strict";
import { test } from "node:test";

import { commandOf, reached, typed } from "../../src/metaphon/web/shell/static/shell/command.js";

const around = (chosen = [], within = true) => ({ chosen, within, groups: false });

test("a number is read as it is typed, anything else stays as it is", () => {
  const minus = "\u2212";
  assert.equal(typed(`${minus}3,5`), -3.5);
  assert.equal(typed(" +.25 "), 0.25);
  assert.equal(typed("7."), 7);
  for (const text of ["", "-", "1e3", "0x10", "3 dB", "1,2,3", "NaN", "Infinity"]) {
    assert.equal(typed(text), text);
  }
});

test("an edit of one of several chosen strips reaches them all, itself first", () => {
  assert.deepEqual(reached(["b"], around(["a", "b", "c"])), ["b", "a", "c"]);
  assert.deepEqual(reached(["d"], around(["a", "b"])), ["d"]);
  assert.deepEqual(reached(["b"], around(["b"])), ["b"]);
  assert.deepEqual(reached(["b"], around(["a", "b"], false)), ["b"]);
  assert.deepEqual(reached(undefined, around(["a", "b"])), ["a", "b"]);
  assert.deepEqual(reached([], around(["a"])), ["a"]);
});

test("a value is set by its path on the strips it reaches", () => {
  assert.deepEqual(commandOf({ set: "b gain_db" }, -6, around(["a", "b"])), {
    kind: "set",
    strips: ["b", "a"],
    path: "gain_db",
    value: -6,
    with_group: false,
  });
});

test("a setting of one processor, send or clip stays on its own strip", () => {
  for (const path of ["chain/0/gain_db", "sends/cave/level_db", "clips/0/start_s"]) {
    assert.deepEqual(commandOf({ set: `b ${path}` }, 1, around(["a", "b"])).strips, ["b"]);
  }
});

test("a switch says on and off as true and false", () => {
  assert.equal(commandOf({ set: "b muted" }, "on", around()).value, true);
  assert.equal(commandOf({ set: "b muted" }, "off", around()).value, false);
});

test("a command takes the control's value, the form's fields and those chosen", () => {
  const given = { command: '{"kind": "send", "strips": ["b"]}', field: "bus", chosen: "strips" };
  assert.deepEqual(commandOf(given, "cave", around(["a", "b"]), { level_db: -12 }), {
    kind: "send",
    strips: ["b", "a"],
    bus: "cave",
    level_db: -12,
  });
  const copied = { command: '{"kind": "copy_chain", "strip": "b"}', chosen: "to" };
  assert.deepEqual(commandOf(copied, undefined, around(["a"])).to, ["a"]);
});

test("routed to nowhere is null, not an empty name", () => {
  const routed = { command: '{"kind": "route", "strips": ["b"]}', field: "to" };
  assert.equal(commandOf(routed, "", around()).to, null);
});
