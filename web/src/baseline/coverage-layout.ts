import { scalePoint } from "d3-scale";

import type { CoverageRow, Issue } from "../api/client";

/** An issue's date on the axis. */
export interface Column {
  date: string;
  x: number;
}
/** An issue that a bar can be pinned to. */
export interface Stop {
  issue: string;
  x: number;
}
/** A model's line: the issues that cover it, and where its pin stands. */
export interface Bar {
  row: CoverageRow;
  y: number;
  stops: Stop[];
  pin: number | null;
}
/** Everything of the drawing, in pixels. */
export interface CoverageLayout {
  columns: Column[];
  bars: Bar[];
  height: number;
}

/** The height of the axis. */
export const HEAD = 30;
/** The height of a bar with its names. */
export const ROW = 40;
const LEFT = 168;
const RIGHT = 138;

/** Where bars, stops and pins stand: issues evenly spread in order of their date, a row per model and catalog. */
export function layoutCoverage(rows: CoverageRow[], issues: Issue[], width: number): CoverageLayout {
  const dates = [...new Set(issues.map((i) => i.issued))].sort();
  const scale = scalePoint<string>()
    .domain(dates)
    .range([LEFT, Math.max(LEFT + 40, width - RIGHT)])
    .padding(dates.length > 1 ? 0.3 : 0.5);
  const when = new Map(issues.map((i) => [`${i.maker}|${i.catalog}|${i.issue}`, i.issued]));
  const bars = rows.map((row, n) => {
    const stops = row.covered.map((issue) => ({
      issue,
      x: scale(when.get(`${row.maker}|${row.catalog}|${issue}`) ?? "") ?? LEFT,
    }));
    return {
      row,
      y: HEAD + n * ROW + ROW / 2,
      stops,
      pin: stops.find((s) => s.issue === row.followed)?.x ?? null,
    };
  });
  return {
    columns: dates.map((date) => ({ date, x: scale(date) ?? LEFT })),
    bars,
    height: HEAD + rows.length * ROW + 6,
  };
}

/** The stop nearest to a place. */
export function nearest(stops: Stop[], x: number): Stop | undefined {
  return stops.reduce<Stop | undefined>(
    (best, stop) => (!best || Math.abs(stop.x - x) < Math.abs(best.x - x) ? stop : best),
    undefined,
  );
}

/** Which stop a key leads to. */
export function nextStop(stops: Stop[], at: string | null, key: string): Stop | undefined {
  const place = stops.findIndex((s) => s.issue === at);
  if (place < 0 && key.startsWith("Arrow")) return stops[stops.length - 1];
  if (key === "ArrowLeft" || key === "ArrowDown") return stops[Math.max(0, place - 1)];
  if (key === "ArrowRight" || key === "ArrowUp") return stops[Math.min(stops.length - 1, place + 1)];
  if (key === "Home") return stops[0];
  if (key === "End") return stops[stops.length - 1];
  return undefined;
}
