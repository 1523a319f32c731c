// The place in the mix as it is shown and typed: minutes and seconds, timecode, or samples. Timecode counts from the
// time of day at which the mix begins, in seconds.
// Drop-frame counting: SMPTE ST 12-1: two numbers are left out each minute but every tenth.

export const RATES = {
  23.976: [24000 / 1001, 24],
  24: [24, 24],
  25: [25, 25],
  30: [30, 30],
  29.97: [30000 / 1001, 30],
  "29.97drop": [30000 / 1001, 30],
};
const two = (n) => String(n).padStart(2, "0");

export function shown(frame, rate, form, starts_s = 0) {
  const seconds = frame / rate;
  if (form === "samples") return String(frame).replace(/\B(?=(\d{3})+$)/g, "\u202f");
  if (!RATES[form])
    return `${two(Math.floor(seconds / 60))}:${(seconds % 60).toFixed(1).padStart(4, "0")}`;
  const [real, nominal] = RATES[form];
  // the first frame of the mix is a whole one
  let count = Math.round(starts_s * real) + Math.floor(seconds * real + 1e-6);
  if (form === "29.97drop") {
    const tens = Math.floor(count / 17982);
    const rest = count % 17982;
    count += 18 * tens + (rest > 1 ? 2 * Math.floor((rest - 2) / 1798) : 0);
  }
  const parts = [count / nominal / 3600, (count / nominal / 60) % 60, (count / nominal) % 60].map(
    Math.floor,
  );
  return `${parts.map(two).join(":")}${form === "29.97drop" ? ";" : ":"}${two(count % nominal)}`;
}

// The frame of the mix that was typed, or null where it is no place.
export function read(text, rate, form, starts_s = 0) {
  const clean = text
    .trim()
    .replace(/\u202f|\s/g, "")
    .replace(",", ".");
  if (form === "samples") return /^\d+$/.test(clean) ? +clean : null;
  if (!/^[\d.:;]+$/.test(clean)) return null;
  const parts = clean.split(/[:;]/).map(Number);
  if (parts.some(Number.isNaN) || parts.length > 4) return null;
  if (!RATES[form]) return Math.round(parts.reduce((sum, part) => sum * 60 + part, 0) * rate);
  const [real, nominal] = RATES[form];
  while (parts.length < 4) parts.unshift(0);
  const [hours, minutes, seconds, frames] = parts;
  const all = hours * 60 + minutes;
  const count =
    (all * 60 + seconds) * nominal +
    frames -
    (form === "29.97drop" ? 2 * (all - Math.floor(all / 10)) : 0);
  const frame = Math.round(((count - Math.round(starts_s * real)) / real) * rate);
  return frame < 0 ? null : frame;
}
