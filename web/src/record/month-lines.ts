// Lines of drift over months, laid out: one a model, told apart by dashes and by a name at its end.
import { scaleLinear } from "d3-scale";

import type { MonthsData } from "../api/client";

type Day = MonthsData["models"][number]["days"][number];

/** One model's line with where its name stands; ``points`` as a polyline has them. */
export interface ModelLine {
  model: string;
  first: Day;
  last: Day;
  most: number;
  points: string;
  end: { x: number; y: number };
  labelY: number;
  dashes: string;
}

const LEFT = 44;
const APART = 15;
const DASHES = ["none", "6 3", "2 3", "8 3 2 3", "1 4", "10 4"] as const;
const DAY_MS = 86_400_000;

/** The lines of models that have a day at all; names that would stand on one another are moved apart. */
export function layOut(models: MonthsData["models"], width: number, height: number): ModelLine[] {
  const days = models.flatMap((m) => m.days.map((d) => Date.parse(d.day)));
  const [from, until] = [Math.min(...days), Math.max(...days)];
  const x = scaleLinear([from, Math.max(until, from + DAY_MS)], [LEFT, width]);
  const y = scaleLinear([0, 1], [height - 4, 16]);
  const lines = models.flatMap(({ model, days: own }, at) => {
    const [first, last] = [own[0], own.at(-1)];
    if (!first || !last) return [];
    const place = (d: Day) => ({ x: x(Date.parse(d.day)), y: y(d.servers ? d.off / d.servers : 0) });
    const end = place(last);
    const points = own.map(place).map((p) => `${p.x.toFixed(1)},${p.y.toFixed(1)}`);
    return [
      {
        model,
        first,
        last,
        most: Math.max(...own.map((d) => d.off)),
        points: points.join(" "),
        end,
        labelY: end.y,
        dashes: DASHES[at % DASHES.length] ?? "none",
      },
    ];
  });
  return spread(lines, height);
}

/** Names from top to bottom, each at least a line below the one above it, all within the drawing. */
function spread(lines: ModelLine[], height: number): ModelLine[] {
  const placed = [...lines].sort((a, b) => a.end.y - b.end.y);
  let above = -Infinity;
  for (const line of placed) above = line.labelY = Math.max(line.end.y, above + APART);
  const over = Math.max(0, above - height);
  for (const line of placed) line.labelY -= over;
  return lines;
}
