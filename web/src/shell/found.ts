/** Something that can be found or done, and where it leads. */
export interface Found {
  group: string;
  label: string;
  hint: string;
  go: () => void;
}

/** What is shown of all that fits: at most so many of a group, whose whole number stands beside its name. */
export interface Fits {
  rows: Found[];
  totals: ReadonlyMap<string, number>;
}

const MOST = 15;

/** An index over everything, made once: what is looked through for each key that is pressed. */
export function indexOf(all: Found[]): (line: string) => Fits {
  const groups = new Map<string, { found: Found; label: string; text: string }[]>();
  const seen = new Set<string>();
  for (const found of all) {
    const text = `${found.label} ${found.hint}`.toLowerCase();
    if (seen.has(`${found.group} ${text}`)) continue;
    seen.add(`${found.group} ${text}`);
    const rows = groups.get(found.group) ?? [];
    groups.set(found.group, rows);
    rows.push({ found, label: found.label.toLowerCase(), text });
  }
  return (line) => {
    const words = line.toLowerCase().split(/\s+/).filter(Boolean);
    const fitting = [...groups].map(([group, rows]) => {
      const ranked = rows
        .map(({ found, label, text }) => ({ found, rank: rankOf(label, text, words) }))
        .filter(({ rank }) => rank < NOT);
      // Sorting keeps the order of equals: servers stay as the racks have them.
      ranked.sort((a, b) => a.rank - b.rank);
      return { group, ranked };
    });
    fitting.sort((a, b) => (a.ranked[0]?.rank ?? NOT) - (b.ranked[0]?.rank ?? NOT));
    return {
      rows: fitting.flatMap(({ ranked }) => ranked.slice(0, MOST).map(({ found }) => found)),
      totals: new Map(fitting.map(({ group, ranked }) => [group, ranked.length])),
    };
  };
}

const NOT = 4;

/** 0 the very name, 1 begins with it, 2 in the name, 3 in the name and what stands beside it; ``NOT`` otherwise. */
function rankOf(label: string, text: string, words: string[]): number {
  const line = words.join(" ");
  if (label === line) return 0;
  if (label.startsWith(line)) return 1;
  if (words.every((word) => label.includes(word))) return 2;
  return words.every((word) => text.includes(word)) ? 3 : NOT;
}
