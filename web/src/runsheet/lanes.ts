import type { RunServer, Span } from "../api/client";

export interface Scale { x: (seconds: number) => number; ticks: { at: number; x: number }[]; end: number }

const STEPS = [300, 600, 900, 1800, 3600, 7200, 14_400];

/** Seconds to pixels; ticks at round times, eight at most. */
export function scaleOf(end: number, width: number): Scale {
  const span = Math.max(end, 600) * 1.03;
  const step = STEPS.find((s) => span / s <= 8) ?? 28_800;
  const x = (seconds: number): number => (seconds / span) * width;
  const ticks = Array.from({ length: Math.floor(span / step) + 1 }, (_, i) => ({ at: i * step, x: x(i * step) }));
  return { x, ticks, end: span };
}

/** When everything on the sheet is over, planned or happened; never before now. */
export function endOf(servers: RunServer[], now: number): number {
  const ends = servers.flatMap((s) => [...s.plan, ...s.happened].map((span) => span.end ?? now));
  return Math.max(now, ...ends, 0);
}

/** The plan of a lane moved to where the server really began, once it has. */
export function shifted(lane: RunServer): Span[] {
  const begun = lane.happened[0]?.start;
  const planned = lane.plan[0]?.start;
  if (begun === undefined || planned === undefined) return lane.plan;
  return lane.plan.map((s) => ({ ...s, start: s.start + begun - planned, end: (s.end ?? s.start) + begun - planned }));
}

export const isReset = (kind: string): boolean => ["controller restart", "server reboot", "power cycle"].includes(kind);
