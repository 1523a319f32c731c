// Places in the mix as they are shown and typed.
import assert from "node:assert/strict";
import { test } from "node:test";

import { RATES, read, shown } from "../../src/metaphon/web/listen/static/listen/timecode.js";

const RATE = 48000;
const SAMPLES_A_FRAME = 1601.6; // at 30000/1001 frames a second
const sampleOf = (count) => Math.ceil(count * SAMPLES_A_FRAME);

// SMPTE ST 12-1: frames 0 and 1 of each minute are left out, but not of every tenth. (From memory.)
test("drop-frame timecode leaves out two numbers a minute but every tenth", () => {
  for (const [count, words] of [
    [0, "00:00:00;00"],
    [1799, "00:00:59;29"],
    [1800, "00:01:00;02"],
    [3597, "00:01:59;29"],
    [3598, "00:02:00;02"],
    [17981, "00:09:59;29"],
    [17982, "00:10:00;00"],
    [107892, "01:00:00;00"],
  ]) {
    assert.equal(shown(sampleOf(count), RATE, "29.97drop"), words);
    assert.ok(Math.abs(read(words, RATE, "29.97drop") - count * SAMPLES_A_FRAME) <= 0.5, words);
  }
});

test("whole frame rates count plainly", () => {
  assert.equal(shown(RATE * 3661 + (RATE / 25) * 7, RATE, "25"), "01:01:01:07");
  assert.equal(shown(RATE * 10 + (RATE / 24) * 23, RATE, "24"), "00:00:10:23");
});

test("what is shown is read back, in every form", () => {
  for (const form of Object.keys(RATES)) {
    for (const second of [0, 1, 59, 60, 61, 599, 600, 3599, 3600, 86000]) {
      const words = shown(RATE * second, RATE, form);
      const again = read(words, RATE, form);
      assert.ok(Math.abs(again - RATE * second) <= RATE / 23, `${form} ${words}`);
      assert.equal(shown(again + 1, RATE, form), words);
    }
  }
  assert.equal(read(shown(123456, RATE, "samples"), RATE, "samples"), 123456);
});

test("a mix that begins at ten o'clock is counted from there", () => {
  for (const form of Object.keys(RATES)) {
    const [real, nominal] = RATES[form];
    const tens = form === "29.97drop" ? 17982 * 60 : nominal * 36000;
    const starts_s = tens / real; // frame numbers of ten hours, SMPTE ST 12-1
    const mark = form === "29.97drop" ? ";" : ":";
    assert.equal(shown(0, RATE, form, starts_s), `10:00:00${mark}00`, form);
    assert.equal(read("10:00:01:00", RATE, form, starts_s), Math.round((nominal / real) * RATE));
    assert.equal(read("09:59:59:00", RATE, form, starts_s), null);
  }
});

test("minutes and seconds are typed with a point or a comma", () => {
  assert.equal(read("1:02,5", RATE, "min"), 62.5 * RATE);
  assert.equal(read("7", RATE, "min"), 7 * RATE);
  assert.equal(shown(62.5 * RATE, RATE, "min"), "01:02.5");
});

test("what is no place is refused", () => {
  for (const [text, form] of [
    ["later", "min"],
    ["-1", "min"],
    ["1:2:3:4:5", "25"],
    ["", "samples"],
    ["12.5", "samples"],
  ]) {
    assert.equal(read(text, RATE, form), null, text);
  }
});
