// What a control says, made a command of the core. Nothing here knows of the page, so that it can be tried alone.

const MINUS = "\u2212";
// settings of one processor, send or clip are set on their own strip alone, whatever else is chosen
const OWN = /^(chain|sends|clips)\//;

// A number as it is typed, or the text where it is none.
export function typed(text) {
  const plain = text.trim().replace(MINUS, "-").replace(",", ".");
  return /^[-+]?(\d+\.?\d*|\.\d+)$/.test(plain) ? Number(plain) : text;
}

const switched = (value) => (value === "on" ? true : value === "off" ? false : value);

// The strips that an edit reaches: those given, with those chosen along with the first; the chosen where none is given.
export function reached(strips, { chosen, within }) {
  if (!strips?.length) return chosen;
  return within && chosen.length > 1 && chosen.includes(strips[0])
    ? [strips[0], ...chosen.filter((one) => one !== strips[0])]
    : strips;
}

export function commandOf({ set, command, field, chosen }, value, around, fields) {
  if (set) {
    const place = set.indexOf(" ");
    const [strip, path] = [set.slice(0, place), set.slice(place + 1)];
    const strips = OWN.test(path) ? [strip] : reached([strip], around);
    return { kind: "set", strips, path, value: switched(value), with_group: around.groups };
  }
  const made = { ...JSON.parse(command), ...fields };
  if (value !== undefined)
    made[field ?? "value"] = field === "to" && value === "" ? null : switched(value);
  if (chosen === "strips") made.strips = reached(made.strips, around);
  if (chosen === "to") made.to = around.chosen;
  return made;
}
