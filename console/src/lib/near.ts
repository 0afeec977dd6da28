/** Names that are nearly alike: columns of a target, and what could go into them. */
const plain = (name: string) => name.toLowerCase().replace(/[^\p{L}\p{N}]/gu, "");

function pairs(text: string): string[] {
  return Array.from({ length: Math.max(0, text.length - 1) }, (_, at) => text.slice(at, at + 2));
}

/** From 0, nothing in common, to 1, the same but for case and marks. */
export function nearness(one: string, other: string): number {
  const [a, b] = [plain(one), plain(other)];
  if (a === b) return 1;
  const rest = pairs(b);
  let common = 0;
  for (const pair of pairs(a)) {
    const at = rest.indexOf(pair);
    if (at >= 0) {
      rest.splice(at, 1);
      common += 1;
    }
  }
  return (2 * common) / Math.max(1, a.length + b.length - 2);
}

const LEAST = 0.55;

/** For each wanted name the nearest that is free, each once, the best pairs first. */
export function proposals(wanted: string[], free: string[]): { wanted: string; found: string; nearness: number }[] {
  const all = wanted.flatMap((name) => free.map((found) => ({ wanted: name, found, nearness: nearness(name, found) })));
  all.sort((a, b) => b.nearness - a.nearness);
  const taken = new Set<string>();
  return all.filter((pair) => {
    if (pair.nearness < LEAST || taken.has(`w${pair.wanted}`) || taken.has(`f${pair.found}`)) return false;
    taken.add(`w${pair.wanted}`);
    taken.add(`f${pair.found}`);
    return true;
  });
}
