import { scalePoint } from "d3-scale";

import type { ReleaseData, ReleaseLineData } from "../api/client";

/** A component that runs a release, as a dot below it. */
export interface Dot {
  x: number;
  y: number;
}
/** A way from one release to the next, with the resets it takes. */
export interface Arc {
  path: string;
  label: string;
  x: number;
  y: number;
}
/** Everything on the release line, in pixels. */
export interface Layout {
  x: (version: string) => number;
  dots: Map<string, Dot[]>;
  exposed: Set<string>;
  arcs: Arc[];
  barrier: number | null;
}

const SHORT: Record<string, string> = { "server reboot": "reboot", "controller restart": "restart" };
const DOT = 8;
const PER_ROW = 12;

/** Dots under a release, in rows of twelve, centred on it. */
export function dotsOf(n: number, centre: number, y: number): Dot[] {
  const shown = Math.min(n, PER_ROW * 3);
  const rows = Math.ceil(shown / PER_ROW);
  return Array.from({ length: shown }, (_, i) => {
    const row = Math.floor(i / PER_ROW);
    const inRow = row === rows - 1 ? shown - row * PER_ROW : PER_ROW;
    return { x: centre + ((i % PER_ROW) - (inRow - 1) / 2) * DOT, y: y + row * DOT };
  });
}

/** The releases below the baseline from which a security release is still to come. */
export function exposedAt(releases: ReleaseData[]): Set<string> {
  const target = releases.findLastIndex((r) => r.is_target);
  const below = releases.slice(0, Math.max(0, target));
  return new Set(
    below
      .filter((_, i) => releases.slice(i + 1, target + 1).some((r) => r.importance === "security"))
      .map((r) => r.version),
  );
}

interface Leg {
  source: string;
  to: string;
  labels: string[];
}

/** One leg is one arc, whatever resets it takes: two would lie upon each other, and so would their labels. */
function legsOf(ways: ReleaseLineData["ways"]): Leg[] {
  const legs = new Map<string, Leg>();
  for (const { source, to, reset, components } of ways) {
    const short = SHORT[reset] ?? reset;
    const label = components > 1 ? `${short} ×${components}` : short;
    const known = legs.get(`${source}\n${to}`);
    if (known) known.labels.push(label);
    else legs.set(`${source}\n${to}`, { source, to, labels: [label] });
  }
  return [...legs.values()];
}

/** Where everything of a release line stands: releases spread evenly, arcs higher the further they reach. */
export function layout(data: ReleaseLineData, width: number, y: number): Layout {
  const scale = scalePoint<string>()
    .domain(data.releases.map((r) => r.version))
    .range([60, width - 70])
    .padding(0.15);
  const x = (version: string): number => scale(version) ?? 0;
  const known = new Set(data.releases.map((r) => r.version));
  const ways = data.ways.filter((w) => known.has(w.source) && known.has(w.to));
  const arcs = legsOf(ways).map((leg) => {
    const [a, b] = [x(leg.source), x(leg.to)];
    const rise = Math.min(y - 22, 16 + Math.abs(b - a) * 0.13);
    // Arcs often meet at the baseline: the label stands near the start, where they are still apart.
    const t = 0.28;
    const along = a + (b - a) * t;
    return {
      path: `M${a},${y - 8} Q${(a + b) / 2},${y - 8 - rise * 1.6} ${b},${y - 8}`,
      label: leg.labels.join(", "),
      x: along,
      y: y - 12 - 2 * t * (1 - t) * rise * 1.6,
    };
  });
  const floor = data.floor && known.has(data.floor) ? x(data.floor) : null;
  const step = scale.step();
  const dots = new Map(
    data.releases.map((r: ReleaseData) => [
      r.version,
      dotsOf(r.components + r.waiting, x(r.version), y + 18),
    ]),
  );
  return {
    x,
    dots,
    exposed: exposedAt(data.releases),
    arcs,
    barrier: floor === null ? null : floor - step / 2,
  };
}
