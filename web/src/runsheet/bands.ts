// Lanes in bands: what belongs together, folded into one line that says how many are busy with what, and when.
import type { RunServer, Span } from "../api/client";
import { isReset, spansOf, type Stretch } from "./timescale";

/** What lanes can be banded by. */
export const GROUPINGS = ["none", "wave", "group", "rack"] as const;
/** One of them. */
export type Grouping = (typeof GROUPINGS)[number];

/** Lanes that belong together. */
export interface Band {
  name: string;
  lanes: RunServer[];
}

/** What stands in one row: a band, or a lane. */
export type Row = { band: Band; isOpen: boolean; lane?: undefined } | { lane: RunServer; band?: undefined };

/** Up to so many lanes are seen at once: they need no bands. */
export const FEW = 30;

/** How lanes are banded: as chosen, else by wave where there are waves, else by group where there are many. */
export const groupingOf = (said: string | null, lanes: number, hasWaves: boolean): Grouping =>
  GROUPINGS.find((g) => g === said && (g !== "wave" || hasWaves)) ??
  (hasWaves ? "wave" : lanes > FEW ? "group" : "none");

const NAME: Record<Exclude<Grouping, "none">, (lane: RunServer) => string> = {
  wave: (lane) => lane.wave || "in no wave",
  group: (lane) => lane.group || "in no group",
  rack: (lane) => [lane.room, lane.rack].filter(Boolean).join(" ") || "no rack named",
};

/** The bands in the order in which their first lane comes; none where lanes are not banded. */
export function bandsOf(servers: RunServer[], by: Grouping): Band[] {
  if (by === "none") return [];
  const found = new Map<string, Band>();
  for (const lane of servers) {
    const name = NAME[by](lane);
    const band = found.get(name) ?? { name, lanes: [] };
    band.lanes.push(lane);
    found.set(name, band);
  }
  return [...found.values()];
}

/** What stands below one another: the bands, each with its lanes while it is open; or lanes alone. */
export function rowsOf(servers: RunServer[], bands: Band[], open: ReadonlySet<string>): Row[] {
  if (!bands.length) return servers.map((lane) => ({ lane }));
  return bands.flatMap((band): Row[] => {
    const isOpen = open.has(band.name);
    return [{ band, isOpen }, ...(isOpen ? band.lanes.map((lane): Row => ({ lane })) : [])];
  });
}

/** A band in words, what needs a person first: "1 asks", "5 servers", "2 under way". */
export function tellBand(lanes: RunServer[]): string[] {
  const is: [number, string][] = [
    [lanes.filter((l) => l.question && !l.ended).length, "asks"],
    [lanes.filter((l) => l.ended === "failed").length, "failed"],
    [lanes.length, lanes.length === 1 ? "server" : "servers"],
    [lanes.filter((l) => !l.ended && !l.question && l.state !== "waiting").length, "under way"],
    [lanes.filter((l) => l.ended && l.ended !== "failed").length, "done"],
  ];
  return is.filter(([n]) => n > 0).map(([n, what]) => `${n} ${what}`);
}

/** What a lane can be busy with, in the order in which a density stacks it. */
export const LAYERS = ["staging", "writing", "resetting", "checking", "failed"] as const;
/** One of them. */
export type Layer = (typeof LAYERS)[number];

/** How many lanes are busy with what, on average over each of some equal pieces of a stretch of time. */
export type Density = Record<Layer, Float64Array>;

const layerOf = (kind: string): Layer =>
  isReset(kind) ? "resetting" : (LAYERS.find((layer) => layer === kind) ?? "writing");

/** The density of some spans. Spans that are under way end now. */
export function densityOf(spans: Span[], { from, to }: Stretch, pieces: number, now: number): Density {
  const made = Object.fromEntries(LAYERS.map((layer) => [layer, new Float64Array(pieces)])) as Density;
  const long = (to - from) / pieces;
  for (const span of spans) {
    const begin = Math.max(span.start, from);
    const end = Math.min(span.end ?? Math.max(now, span.start), to);
    const row = made[layerOf(span.kind)];
    for (let i = Math.floor((begin - from) / long); i < pieces && from + i * long < end; i++) {
      const share = Math.min(end, from + (i + 1) * long) - Math.max(begin, from + i * long);
      row[i] = (row[i] ?? 0) + Math.max(0, share) / long;
    }
  }
  return made;
}

/** The spans of many lanes together. */
export function allSpans(
  lanes: RunServer[],
  now: number,
  isRunning: boolean,
): { done: Span[]; ahead: Span[] } {
  const each = lanes.map((lane) => spansOf(lane, now, isRunning));
  return { done: each.flatMap((e) => e.done), ahead: each.flatMap((e) => e.ahead) };
}

/** The most lanes that are busy at once in a piece of the time. */
export function peakOf(...densities: Density[]): number {
  const pieces = densities[0]?.writing.length ?? 0;
  let peak = 0;
  for (let i = 0; i < pieces; i++) {
    let sum = 0;
    for (const density of densities) for (const layer of LAYERS) sum += density[layer][i] ?? 0;
    peak = Math.max(peak, sum);
  }
  return peak;
}
