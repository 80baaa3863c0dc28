// Time on the run sheet: which stretch of it is shown, where a moment stands, and what is still to come.
import type { RunServer, Span } from "../api/client";

/** A stretch of the run, in seconds since its start. */
export interface Stretch {
  from: number;
  to: number;
}

/** How a stretch of time lies on the page. */
export interface Scale extends Stretch {
  x: (seconds: number) => number;
  ticks: { at: number; x: number }[];
  /** Where no window is open: pixels. Nothing is reset there. */
  closed: { from: number; to: number }[];
}

const STEPS = [15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 14_400];
const SHORTEST_RUN = 600;
const AIR = 1.03;
/** Nothing on a sheet is told apart better in less than a minute across the page. */
export const CLOSEST = 60;
/** Pixels that a tick and its time need. */
const TICK_ROOM = 90;

/**
 * Seconds to pixels; ticks at round times, as many as have room. ``begun`` is the time of day at which the run began,
 * in seconds: then it is the clock's times that are round.
 */
export function scaleOf(
  { from, to }: Stretch,
  width: number,
  begun = 0,
  windows: Stretch[] | null = null,
): Scale {
  const span = to - from;
  const most = Math.max(2, Math.min(8, Math.floor(width / TICK_ROOM)));
  const step = STEPS.find((s) => span / s <= most) ?? Math.ceil(span / most / 28_800) * 28_800;
  const x = (seconds: number): number => ((seconds - from) / span) * width;
  const ticks = [];
  for (let at = Math.ceil((from + begun) / step) * step - begun; at <= to; at += step)
    ticks.push({ at, x: x(at) });
  const closed = closedIn({ from, to }, windows).map((gap) => ({ from: x(gap.from), to: x(gap.to) }));
  return { x, ticks, from, to, closed };
}

/** What of a stretch lies outside all windows; nothing where there are none. */
export function closedIn({ from, to }: Stretch, windows: Stretch[] | null): Stretch[] {
  if (!windows) return [];
  const gaps: Stretch[] = [];
  let at = from;
  for (const window of [...windows].sort((a, b) => a.from - b.from)) {
    if (window.from > at) gaps.push({ from: at, to: Math.min(window.from, to) });
    at = Math.max(at, window.to);
  }
  if (at < to) gaps.push({ from: at, to });
  return gaps.filter((gap) => gap.to > gap.from);
}

/** When everything on the sheet is over, planned or happened; never before now. */
export function endOf(servers: RunServer[], now: number): number {
  let end = Math.max(now, 0);
  for (const lane of servers) {
    const last = lane.ended ? 0 : (remaining(lane, now).at(-1)?.end ?? 0);
    for (const span of lane.happened) end = Math.max(end, span.end ?? now);
    end = Math.max(end, last);
  }
  return end;
}

/** The whole sheet, with some air after its end. */
export const wholeOf = (end: number): Stretch => ({ from: 0, to: Math.max(end, SHORTEST_RUN) * AIR });

/** Where now stands in a stretch that follows it: there is more to see behind than ahead. */
const NOW_AT = 0.6;

/**
 * The stretch that an address says: ``600-1200``, or ``now-900`` for a quarter of an hour that goes along with now.
 * The whole sheet where it says nothing, or nothing that lies on it.
 */
export function readStretch(said: string | null, now: number, whole: Stretch): Stretch {
  const [, begin = "", end = ""] = /^(now|\d+)-(\d+)$/.exec(said ?? "") ?? [];
  if (begin === "now") return around(now, Number(end), whole);
  const from = Number(begin);
  const to = Number(end);
  return end && to - from >= CLOSEST && from < whole.to ? within({ from, to }, whole) : whole;
}

/** A stretch of so many seconds that goes along with now. */
const around = (now: number, span: number, whole: Stretch): Stretch =>
  within({ from: now - span * NOW_AT, to: now + span * (1 - NOW_AT) }, whole);

/** How an address says a stretch; nothing for the whole. */
export const spellStretch = (stretch: Stretch, whole: Stretch): string | null =>
  stretch.to - stretch.from >= (whole.to - whole.from) * 0.999
    ? null
    : `${Math.round(stretch.from)}-${Math.round(stretch.to)}`;

/** A stretch moved and shortened so that it lies on the sheet. */
export function within({ from, to }: Stretch, whole: Stretch): Stretch {
  const span = Math.min(Math.max(to - from, CLOSEST), whole.to - whole.from);
  const begin = Math.min(Math.max(from, whole.from), whole.to - span);
  return { from: begin, to: begin + span };
}

/** Closer to a moment, or further from it: the moment keeps its place on the page. */
export function closer(stretch: Stretch, factor: number, at: number, whole: Stretch): Stretch {
  const share = (at - stretch.from) / (stretch.to - stretch.from);
  const span = Math.min(Math.max((stretch.to - stretch.from) / factor, CLOSEST), whole.to - whole.from);
  return within({ from: at - span * share, to: at + span * (1 - share) }, whole);
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
      if (!isReset(planned.kind) && !isMoving(planned.kind) && begin > now)
        open.push({ ...planned, start: now, end: begin });
    }
    return !done;
  });
  const shift = begin - (rest[0]?.start ?? 0);
  const moved = rest.map((s) => ({ ...s, start: s.start + shift, end: (s.end ?? s.start) + shift }));
  return [...open, ...moved];
}

/** Whether a span is work on its way off a server or back to it: a sign, too. */
export const isMoving = (kind: string): boolean => kind === "moving off" || kind === "taking back";

/** Whether a span is a reset: those are drawn as signs. */
export const isReset = (kind: string): boolean =>
  ["controller restart", "server reboot", "power cycle"].includes(kind);

/** How long a server is out of service by its plan, in seconds: from its first outage, or the moving off before it (T4). */
export function awayOf({ plan }: RunServer): number {
  const first = plan.find(
    (span) => span.kind === "moving off" || (isReset(span.kind) && span.kind !== "controller restart"),
  );
  return first ? (plan.at(-1)?.end ?? first.start) - first.start : 0;
}

/** What to draw on a lane: what has happened, and what is still to come from where it stands. */
export function spansOf(lane: RunServer, now: number, isRunning: boolean): { done: Span[]; ahead: Span[] } {
  if (lane.ended) return { done: lane.happened, ahead: [] };
  return { done: lane.happened, ahead: isRunning ? remaining(lane, now) : lane.plan };
}
