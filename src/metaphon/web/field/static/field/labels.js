// Names beside the sources, on the chart and in the perspective, where they hide nothing that matters.

const SIDES = [
  // where a name may stand: shift from the source, and which end of it is there
  [9, 2, "start"],
  [-9, 2, "end"],
  [0, 13.5, "middle"],
  [0, -9, "middle"],
  [7, 8, "start"],
  [7, -5, "start"],
  [-7, 8, "end"],
  [-7, -5, "end"],
];
const HEIGHT = 6;
const CLEAR = 3; // between the ends of two names
const HALF = 6.5; // of a source's body
const HIDING = 7; // so near, a source hides the number of another
const EDGE = [-212, -110, 212, 110];
export const NAMED_UP_TO = 40; // with more sources, only the chosen ones show their names

// The boxes of what is drawn within a group that is moved, or not moved: [left, top, right, bottom].
export function boxes(elements) {
  return [...elements].map((element) => {
    const { x, y, width, height } = element.getBBox();
    const { e, f } = element.parentNode.transform.baseVal.consolidate()?.matrix ?? { e: 0, f: 0 };
    return [x + e, y + f, x + e + width, y + f + height];
  });
}

const overlap = (a, b) =>
  Math.max(0, Math.min(a[2], b[2]) - Math.max(a[0], b[0])) *
  Math.max(0, Math.min(a[3], b[3]) - Math.max(a[1], b[1]));
const body = ({ at: [x, y] }) => [x - HALF, y - HALF, x + HALF, y + HALF];

function boxOf([x, y], [dx, dy, anchor], width) {
  const left = x + dx - (anchor === "end" ? width : anchor === "middle" ? width / 2 : 0);
  return [left, y + dy - HEIGHT + 1.5, left + width, y + dy + 1.5];
}

const BELOW = 10;
const ABOVE = -6;

// A loudspeaker's name stands below it, or above where a source would lie on it; says whether any changed sides.
export function clearOfSources(names, sources) {
  let changed = false;
  for (const name of names) {
    const [box] = boxes([name]);
    const now = Number(name.getAttribute("y"));
    const over = (y) => {
      const there = [box[0], box[1] + y - now, box[2], box[3] + y - now];
      return sources.reduce((sum, source) => sum + overlap(there, body(source)), 0);
    };
    const wanted = over(BELOW) > over(ABOVE) ? ABOVE : BELOW;
    if (wanted !== now) {
      name.setAttribute("y", wanted);
      changed = true;
    }
  }
  return changed;
}

// Set the names of sources, {label, at: [x, y], name, number}, clear of each other and of what is printed. A name
// keeps its side as long as that is good.
export function setNames(sources, printed) {
  const taken = [];
  const again = () => {
    for (const one of sources) one.width = 0;
    setNames(sources, printed);
  };
  for (const one of sources) {
    const others = sources.filter((other) => other !== one);
    const hidden = others.some(
      ({ at: [x, y] }) => Math.hypot(x - one.at[0], y - one.at[1]) < HIDING,
    );
    const words = hidden ? `${one.number} ${one.name}` : one.name;
    if (one.label.textContent !== words) one.label.textContent = words;
    if (one.words !== words || !one.width)
      [one.words, one.width] = [words, one.label.getComputedTextLength() + CLEAR];
    const bodies = others.map(body);
    const costs = SIDES.map((side, i) => {
      const box = boxOf(one.at, side, one.width);
      const area = one.width * HEIGHT;
      const over = (boxes) => boxes.reduce((sum, other) => sum + overlap(box, other), 0) / area;
      return (
        3 * over(bodies) +
        20 * over(taken) + // a few letters over each other cost more than a longer way
        over(printed) +
        4 * (1 - over([EDGE])) +
        (i === one.side ? 0 : 0.08) +
        0.02 * i
      );
    });
    one.side = costs.indexOf(Math.min(...costs));
    const [dx, dy, anchor] = SIDES[one.side] ?? SIDES[0];
    one.label.setAttribute("x", dx);
    one.label.setAttribute("y", dy);
    one.label.setAttribute("text-anchor", anchor);
    taken.push(boxOf(one.at, [dx, dy, anchor], one.width));
  }
  // what was measured in another font than the one that is on its way is measured once more
  if (document.fonts.status === "loading") document.fonts.ready.then(again);
}
