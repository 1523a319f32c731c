// What all views of Field share: the sources, which of them are chosen, and where each is now.

import { player } from "../listen/player.js";

export const field = { board: null, objects: [], picked: new Set(), drag: null, beds: {} };
export const find = (selector) => field.board.querySelector(selector);
export const mayEdit = () => "mayEdit" in field.board.dataset;

export const radians = (degrees) => (degrees * Math.PI) / 180;
export const degrees = (angle) => (angle * 180) / Math.PI;
export const hold = (elevation) => Math.max(-90, Math.min(90, elevation));
export const vector = (azimuth, elevation) => {
  const [a, e] = [radians(azimuth), radians(elevation)];
  return [-Math.sin(a) * Math.cos(e), Math.cos(a) * Math.cos(e), Math.sin(e)];
};

export const moves = (object) => Boolean(object.path);
// Where a path is at a time: [azimuth, elevation, distance]; the azimuth runs on past 180.
export function along(path, at) {
  if (at <= path[0][0]) return path[0].slice(1);
  let [low, high] = [0, path.length - 1];
  if (at >= path[high][0]) return path[high].slice(1);
  while (high - low > 1) {
    const middle = (low + high) >> 1;
    if (path[middle][0] <= at) low = middle;
    else high = middle;
  }
  const part = (at - path[low][0]) / Math.max(path[high][0] - path[low][0], 1e-9);
  return path[low].slice(1).map((value, i) => value + (path[high][i + 1] - value) * part);
}
export const now = () => player.position / player.rate;
export function placeOf(object) {
  const held = field.drag?.places.get(object.id);
  if (held) return [held[0], held[1], held[2] ?? object.distance];
  return object.path
    ? along(object.path, now())
    : [object.azimuth_deg, object.elevation_deg, object.distance];
}
export const levelOf = (object) =>
  player.playing ? player.current?.readings.strips?.[object.id] : undefined;
