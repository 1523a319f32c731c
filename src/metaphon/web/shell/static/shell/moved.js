// The values that automation moves, at this moment, by "STRIP PATH"; and when that is.

import { player } from "../listen/player.js";

export const moved = new Map();
export const at = () => Math.max(Math.round((player.position / player.rate) * 1000) / 1000, 0) || 0;
export const isMoved = (strip, path) => moved.has(`${strip} ${path}`);

const placed = (strip) => isMoved(strip, "placement/azimuth_deg");
const reaches = {
  set: ({ strips, path }) => strips.some((strip) => isMoved(strip, path)),
  move: ({ places }) => Object.keys(places).some(placed),
};

// A command with the moment at which its values were seen, where a lane moves one of them.
export function seen(command) {
  if (command.kind === "batch") return { ...command, commands: command.commands.map(seen) };
  if (command.at_s !== undefined || !reaches[command.kind]?.(command)) return command;
  return { ...command, at_s: at() };
}
