import type { Work } from "../api/client";

/** What the work line says: one thing in full, the others as counts. */
export interface WorkLine {
  main: Work | null;
  others: string;
}

/** Waiting for the engine, or with it. */
export const isUnderWay = (w: Work): boolean => w.state === "running" || w.state === "asked";

/**
 * The newest failure that nobody has seen, unless something was asked for since and is under way: who asked wants to
 * see how far it is. Else what is under way (a run before all else), else what ended last.
 */
export function workLine(all: Work[]): WorkLine {
  const newest = [...all].sort((a, b) => b.id - a.id);
  const failed = newest.filter((w) => w.state === "failed" && !w.seen);
  const going = newest.filter(isUnderWay).sort((a, b) => rank(a) - rank(b));
  const since = going.find((w) => w.id > (failed[0]?.id ?? 0));
  const main = since ?? failed[0] ?? going[0] ?? newest[0] ?? null;
  const more = (rows: Work[], what: string) => {
    const others = rows.filter((w) => w !== main).length;
    return others ? [`${others}${main && rows.includes(main) ? " more" : ""} ${what}`] : [];
  };
  return { main, others: [...more(failed, "failed"), ...more(going, "under way")].join(", ") };
}

/** A run first, then what has begun, then what waits. */
const rank = (w: Work): number => (w.state === "asked" ? 2 : w.kind === "run" ? 0 : 1);

const LONG = 30;

/** A text whose longest words, names of files as a rule, are shortened in their middle: both ends tell them apart. */
export const shortened = (text: string): string =>
  text.replace(/\S+/g, (word) => (word.length > LONG ? `${word.slice(0, 14)}…${word.slice(-13)}` : word));
