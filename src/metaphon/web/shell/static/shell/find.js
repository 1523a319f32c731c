// What was typed against what there is. Nothing here knows of the page, so that it can be tried alone.

const plain = (text) => text.normalize("NFD").replace(/\p{M}/gu, "").toLowerCase();

const startsAWord = (text, word) =>
  ` ${text.replace(/[^\p{L}\p{N}']/gu, " ")}`.includes(` ${word}`);

// How well words fit a title: less is better, null where one is not in it.
export function rank(typed, title) {
  const [words, text] = [plain(typed).split(/\s+/).filter(Boolean), plain(title)];
  let cost = text.length / 1000;
  for (const word of words) {
    if (!text.includes(word)) return null;
    cost += text.startsWith(word) ? 0 : startsAWord(text, word) ? 1 : 2;
  }
  return cost;
}

// The best of some items ({title}), in order.
export function found(typed, items, most = 12) {
  return items
    .map((item) => [rank(typed, item.title), item])
    .filter(([cost]) => cost !== null)
    .sort(([one], [other]) => one - other)
    .slice(0, most)
    .map(([, item]) => item);
}
