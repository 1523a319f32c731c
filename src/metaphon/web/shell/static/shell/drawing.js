// What drawings share: elements of SVG, angles that go round, a curve that is eased.

const SVG = "http://www.w3.org/2000/svg";
export const make = (name, attributes, ...children) => {
  const element = document.createElementNS(SVG, name);
  for (const [key, value] of Object.entries(attributes)) element.setAttribute(key, value);
  element.append(...children);
  return element;
};

// Any angle brought into -180 (excluded) to 180.
export const wrap = (azimuth) => 180 - ((((180 - azimuth) % 360) + 360) % 360);
// The same direction, by the shorter way round; half a turn keeps its side.
export function near(from, to) {
  const way = wrap(to - from);
  return from + (way === 180 && to < from ? -180 : way);
}
// How far a smooth curve has come after a part of its way.
export const smooth = (part) => part * part * (3 - 2 * part);
