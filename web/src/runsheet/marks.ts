// What is drawn on one lane at one scale: signs that have room for themselves, and counts where they have none.
import type { Span } from "../api/client";
import { isReset, type Scale } from "./timescale";

/** One thing on a lane, in pixels: a single span, or several that are too close to be told apart. */
export interface Mark {
  left: number;
  right: number;
  spans: Span[];
  done: boolean;
}

/** How wide a sign is drawn at least. */
export const SIGN_WIDTH: Record<string, number> = {
  "controller restart": 12,
  "server reboot": 18,
  "power cycle": 22,
};
const COUNT_WIDTH = 17;
/** What is left of a bar beside a sign must be seen as a bar. */
const REST = 3;

const isBar = (mark: Mark): boolean => mark.spans.length === 1 && !isReset(mark.spans[0]?.kind ?? "");

/**
 * The marks of a lane from left to right; none overlaps the next, and every span in sight is in one of them.
 *
 * What needs more room than it has takes it from the bars beside it, as long as they are still seen; else they
 * become one mark with a count.
 */
export function layMarks(done: Span[], ahead: Span[], scale: Scale, now: number): Mark[] {
  const all = [
    ...done.map((span) => ({ span, done: true })),
    ...ahead.map((span) => ({ span, done: false })),
  ];
  const seen = all
    .map((each) => ({ ...each, end: each.span.end ?? Math.max(now, each.span.start) }))
    .filter(({ span, end }) => end >= scale.from && span.start <= scale.to)
    .sort((a, b) => a.span.start - b.span.start || a.end - b.end);
  const laid: Mark[] = [];
  for (const each of seen) {
    const needs = SIGN_WIDTH[each.span.kind] ?? 1;
    add(laid, {
      ...widened(scale.x(each.span.start), scale.x(each.end), needs),
      spans: [each.span],
      done: each.done,
    });
  }
  return laid;
}

function widened(left: number, right: number, needs: number): { left: number; right: number } {
  const lack = (needs - (right - left)) / 2;
  if (lack <= 0) return { left, right };
  // What begins in sight is not pushed out of it at the left edge.
  const begin = left >= 0 ? Math.max(0, left - lack) : left - lack;
  return { left: begin, right: begin + needs };
}

/** Put a mark after those that are laid, making room or becoming one with them. */
function add(laid: Mark[], mark: Mark): void {
  let next = mark;
  for (let last = laid.at(-1); last && last.right > next.left; last = laid.at(-1)) {
    if (isBar(last) && next.left - last.left >= REST) {
      last.right = next.left;
      break;
    }
    if (isBar(next) && next.right - last.right >= REST) {
      next.left = last.right;
      break;
    }
    laid.pop();
    next = joined(last, next);
  }
  laid.push(next);
}

function joined(a: Mark, b: Mark): Mark {
  return {
    ...widened(Math.min(a.left, b.left), Math.max(a.right, b.right), COUNT_WIDTH),
    spans: [...a.spans, ...b.spans],
    done: a.done && b.done,
  };
}

/** The number that a mark of several shows: its resets, or its steps where it has none. */
export const countIn = (mark: Mark): number =>
  mark.spans.filter((s) => isReset(s.kind)).length || mark.spans.length;

/** A mark in words: "writing bios 2.4.1", or "2 writing, server reboot". */
export function tellMark(mark: Mark): string {
  const [only] = mark.spans;
  if (only && mark.spans.length === 1) return `${only.label || only.kind}${only.ahead ? ", ahead" : ""}`;
  const counts = new Map<string, number>();
  for (const span of mark.spans) counts.set(span.kind, (counts.get(span.kind) ?? 0) + 1);
  return [...counts].map(([kind, n]) => (n > 1 ? `${n} × ${kind}` : kind)).join(", ");
}
