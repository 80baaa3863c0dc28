import type { RunServer, Span } from "../api/client";

export interface Scale {
  x: (seconds: number) => number;
  ticks: { at: number; x: number }[];
  end: number;
}

const STEPS = [300, 600, 900, 1800, 3600, 7200, 14_400];

/** Seconds to pixels; ticks at round times, eight at most. */
export function scaleOf(end: number, width: number): Scale {
  const span = Math.max(end, 600) * 1.03;
  const step = STEPS.find((s) => span / s <= 8) ?? 28_800;
  const x = (seconds: number): number => (seconds / span) * width;
  const ticks = Array.from({ length: Math.floor(span / step) + 1 }, (_, i) => ({
    at: i * step,
    x: x(i * step),
  }));
  return { x, ticks, end: span };
}

/** When everything on the sheet is over, planned or happened; never before now. */
export function endOf(servers: RunServer[], now: number): number {
  const ends = servers.flatMap((s) =>
    [...(s.ended ? [] : remaining(s, now)), ...s.happened].map((span) => span.end ?? now),
  );
  return Math.max(now, ...ends, 0);
}

/** What is still to come on a lane: the plan less what has happened, from where the server now stands. */
export function remaining(lane: RunServer, now: number): Span[] {
  const happened = new Map<string, Span[]>();
  for (const span of lane.happened) happened.set(span.kind, [...(happened.get(span.kind) ?? []), span]);
  let begin = lane.happened.length ? now : Math.max(now, lane.plan[0]?.start ?? 0);
  const open: Span[] = [];
  const rest = lane.plan.filter((planned) => {
    const done = happened.get(planned.kind)?.shift();
    if (done?.end === null) {
      // The step under way is expected to last as long as planned; a reset's sign is not drawn twice.
      begin = Math.max(now, done.start + ((planned.end ?? planned.start) - planned.start));
      if (!isReset(planned.kind) && begin > now) open.push({ ...planned, start: now, end: begin });
    }
    return !done;
  });
  const shift = begin - (rest[0]?.start ?? 0);
  const moved = rest.map((s) => ({ ...s, start: s.start + shift, end: (s.end ?? s.start) + shift }));
  return [...open, ...moved];
}

export const isReset = (kind: string): boolean =>
  ["controller restart", "server reboot", "power cycle"].includes(kind);
