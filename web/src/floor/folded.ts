import type { Spot } from "../waterline/spots";

/** Units a rack is high; the highest is the first row. */
export const UNITS = 42;

/** Units with nothing in them, from the upper to the lower, that are drawn as one row. */
export interface Break {
  row: number;
  from: number;
  to: number;
}

/** In which row each unit lies, how many rows there are, and which of them stand for many empty units. */
export interface Rows {
  count: number;
  of: readonly number[];
  breaks: Break[];
}

const LONGEST_KEPT = 2;

/** Every unit a row of its own: racks drawn to scale. */
export const toScale: Rows = {
  count: UNITS,
  of: Array.from({ length: UNITS + 1 }, (_, unit) => UNITS - unit),
  breaks: [],
};

/** The rows of a rack whose longer empty stretches are folded; a rack with servers of no unit stays as it is. */
export function foldEmpty(spots: Spot[]): Rows {
  if (spots.some((spot) => !spot.unit)) return toScale;
  const taken = new Set(
    spots.flatMap((spot) => Array.from({ length: spot.height }, (_, n) => spot.unit + n)),
  );
  const rows = { count: 0, of: Array.from({ length: UNITS + 1 }, () => 0), breaks: [] as Break[] };
  for (let unit = UNITS; unit >= 1;) {
    let low = unit;
    while (low >= 1 && !taken.has(low)) low -= 1;
    const empty = unit - low;
    if (empty > LONGEST_KEPT) rows.breaks.push({ row: rows.count, from: unit, to: low + 1 });
    for (let each = unit; each > low; each -= 1)
      rows.of[each] = empty > LONGEST_KEPT ? rows.count : rows.count + unit - each;
    rows.count += empty > LONGEST_KEPT ? 1 : empty;
    if (low >= 1) {
      rows.of[low] = rows.count;
      rows.count += 1;
    }
    unit = low - 1;
  }
  return rows;
}
