import vocabulary from "../../../docs/vocabulary.json";
import type { Cell } from "../api/client";

/** The verdicts in the words of the interface. They come from the core, as everything here that it knows too. */
export const VERDICTS: Record<string, string> = Object.fromEntries(
  vocabulary.verdicts.map((v) => [v.word, v.says]),
);

/** The verdicts from what matters most to what matters least. */
export const WORST_FIRST: string[] = vocabulary.verdicts.map((v) => v.word).reverse();

/** The verdicts that count as off the baseline. */
export const OFF: ReadonlySet<string> = new Set(vocabulary.verdicts.filter((v) => v.off).map((v) => v.word));

/** What each kind of component is called. */
export const KINDS: Record<string, string> = Object.fromEntries(
  vocabulary.kinds.map((k) => [k.kind, k.name]),
);

/** Letter and kind of the six cells that every server has, and of the others that it may have. */
const cellsOf = (fixed: boolean): [string, string][] =>
  vocabulary.kinds.filter((k) => k.fixed === fixed).map((k) => [k.letter, k.kind]);
/** The six places of a glyph row, which never change. */
export const FIXED = cellsOf(true);
/** The kinds that stand behind them. */
export const OTHERS = new Map(cellsOf(false));

/** One cell in a sentence, for those who don't see the glyph. */
export function tellCell(cell: Cell): string {
  const kind = KINDS[cell.kind] ?? cell.kind;
  if (!cell.count) return `${kind}: none read`;
  const verdict = VERDICTS[cell.verdict] ?? cell.verdict;
  const depth = cell.behind > 0 ? `, ${cell.behind} release${cell.behind > 1 ? "s" : ""}` : "";
  const target = cell.target && cell.verdict !== "level" ? ` → ${cell.target}` : "";
  const waits = cell.waiting ? ` ${cell.waiting} waits` : "";
  const via = cell.via.length ? ` by way of ${cell.via.join(", ")}` : "";
  return `${kind} ${cell.versions}${waits}${via}${target}: ${verdict}${depth}`;
}

/** What is off in a server, in few words. */
export function tellServer(cells: Cell[]): string {
  const off = cells.filter((c) => OFF.has(c.verdict));
  const short = (kind: string): string =>
    kind === "controller"
      ? "controller"
      : kind === "bios" || kind === "raid"
        ? kind.toUpperCase()
        : (KINDS[kind] ?? kind).toLowerCase();
  return off
    .map((c) => `${short(c.kind)}${c.verdict === "pending" ? " (waiting for a reset)" : ""}`)
    .join(", ");
}
