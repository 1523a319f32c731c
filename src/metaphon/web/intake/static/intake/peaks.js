// Draws recordings from parts that the server gives: the lowest and highest sample of equal stretches, a part for
// each 512 of them, at every zoom by powers of two.

const TILE = 512;
const COARSEST = 24;
const MOST = 600; // parts kept
const kept = new Map(); // address: Int16Array, or null while it is on its way

function part(address, arrived) {
  if (kept.has(address)) return kept.get(address);
  kept.set(address, null);
  fetch(address).then(async (answer) => {
    if (!answer.ok) return;
    kept.set(address, new Int16Array(await answer.arrayBuffer()));
    if (kept.size > MOST) kept.delete(kept.keys().next().value);
    arrived();
  });
  return null;
}

// The power of two whose stretches are just finer than what a column shows.
export const exponentFor = (framesAColumn) =>
  Math.min(Math.max(Math.floor(Math.log2(framesAColumn)), 0), COARSEST);

// The lowest and highest of each column: read(stretch) gives a stretch's pair, or null where it is not there yet.
export function columns(first, framesAColumn, count, each, read) {
  const found = [];
  for (let x = 0; x < count; x++) {
    const from = Math.floor((first + x * framesAColumn) / each);
    const to = Math.max(Math.ceil((first + (x + 1) * framesAColumn) / each), from + 1);
    let [low, high] = [Infinity, -Infinity];
    for (let stretch = from; stretch < to; stretch++) {
      const pair = read(stretch);
      if (!pair) continue;
      low = Math.min(low, pair[0]);
      high = Math.max(high, pair[1]);
    }
    found.push(low <= high ? [low / 32767, high / 32767] : null);
  }
  return found;
}

// The columns of a recording whose first part has this address. What is not there yet is drawn from coarser parts
// that are; `arrived` is called when more of it is there.
export function drawn(address, first, framesAColumn, count, arrived) {
  const exponent = exponentFor(framesAColumn);
  const at = (finer, fetching) => {
    const base = address.replace(/\/0\/0$/, `/${finer}/`);
    return columns(first, framesAColumn, count, 2 ** finer, (stretch) => {
      if (stretch < 0) return null;
      const name = base + Math.floor(stretch / TILE);
      const data = fetching ? part(name, arrived) : kept.get(name);
      const place = (stretch % TILE) * 2;
      return data && place < data.length ? [data[place], data[place + 1]] : null;
    });
  };
  let found = at(exponent, true);
  for (let coarser = exponent + 1; coarser <= exponent + 8 && found.includes(null); coarser++) {
    const instead = at(coarser, false);
    found = found.map((pair, x) => pair ?? instead[x]);
  }
  return found;
}
