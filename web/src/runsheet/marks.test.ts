import { describe, expect, it } from "vitest";

import type { Span } from "../api/client";
import { countIn, layMarks, SIGN_WIDTH, tellMark } from "./marks";
import { scaleOf } from "./timescale";

const span = (start: number, end: number | null, kind = "writing", label = ""): Span => ({
  kind,
  start,
  end,
  label,
});
const NIGHT = [
  span(0, 60, "staging", "bios 2.4.1"),
  span(60, 240, "writing", "bios 2.4.1"),
  span(240, 540, "server reboot"),
  span(540, 600, "writing", "raid-1 5.2"),
  span(600, 640, "controller restart"),
  span(640, 940, "power cycle"),
  span(940, 960, "checking"),
];

/** Repeatable numbers between 0 and 1. */
function dice(seed: number) {
  let state = seed;
  return () => (state = (state * 16_807) % 2_147_483_647) / 2_147_483_647;
}

/** Spans of a lane one after the other, of any kinds and lengths. */
function lane(seed: number): Span[] {
  const next = dice(seed + 1);
  const kinds = [
    "staging",
    "writing",
    "server reboot",
    "controller restart",
    "power cycle",
    "checking",
    "failed",
  ];
  let at = next() * 200;
  return Array.from({ length: 1 + Math.floor(next() * 20) }, () => {
    const start = at;
    at += next() ** 3 * 900;
    const made = span(start, at, kinds[Math.floor(next() * kinds.length)]);
    at += next() < 0.3 ? next() * 300 : 0;
    return made;
  });
}

const scales = [60, 300, 1200, 5000, 30_000, 400_000].map((to) => scaleOf({ from: 0, to }, 700));

describe("the marks of a lane", () => {
  it("never overlap, keep their order and hold every span in sight, at any zoom", () => {
    for (let seed = 0; seed < 300; seed++)
      for (const scale of scales) {
        const spans = lane(seed);
        const cut = Math.floor(spans.length / 2);
        const marks = layMarks(spans.slice(0, cut), spans.slice(cut), scale, 0);
        marks.forEach((mark, i) => {
          expect(mark.right).toBeGreaterThanOrEqual(mark.left);
          const next = marks[i + 1];
          if (next) expect(next.left).toBeGreaterThanOrEqual(mark.right);
        });
        const seen = spans.filter((s) => s.start <= scale.to);
        expect(marks.flatMap((m) => m.spans)).toEqual(seen);
      }
  });

  it("leave a sign the room it needs, and a bar enough to be seen", () => {
    for (let seed = 0; seed < 300; seed++)
      for (const scale of scales)
        for (const mark of layMarks(lane(seed), [], scale, 0)) {
          const need = mark.spans.length > 1 ? 17 : (SIGN_WIDTH[mark.spans[0]?.kind ?? ""] ?? 1);
          expect(mark.right - mark.left).toBeGreaterThanOrEqual(need - 1e-6);
        }
  });

  it("stand alone where there is room", () => {
    const marks = layMarks(NIGHT, [], scaleOf({ from: 0, to: 1000 }, 900), 0);
    expect(marks.map((m) => m.spans.length)).toEqual([1, 1, 1, 1, 1, 1, 1]);
  });

  it("become one with a count where there is none: its resets, else its steps", () => {
    const [mark, ...others] = layMarks(NIGHT, [], scaleOf({ from: 0, to: 100_000 }, 900), 0);
    expect(others).toEqual([]);
    expect(mark && countIn(mark)).toBe(3);
    expect(mark && tellMark(mark)).toBe(
      "staging, 2 × writing, server reboot, controller restart, power cycle, checking",
    );
    expect(countIn({ left: 0, right: 9, done: true, spans: [span(0, 1), span(1, 2)] })).toBe(2);
  });

  it("are done only where all in them is, and end now where they have no end", () => {
    const scale = scaleOf({ from: 0, to: 1000 }, 1000);
    const [under] = layMarks([span(100, null)], [], scale, 400);
    expect(under).toMatchObject({ left: 100, right: 400, done: true });
    const [mixed] = layMarks([span(0, 4, "server reboot")], [span(4, 8, "server reboot")], scale, 4);
    expect(mixed).toMatchObject({ done: false });
  });

  it("out of sight are not drawn", () => {
    expect(layMarks(NIGHT, [], scaleOf({ from: 2000, to: 3000 }, 900), 0)).toEqual([]);
    expect(layMarks(NIGHT, [], scaleOf({ from: 300, to: 500 }, 900), 0)).toHaveLength(1);
  });

  it("say what they are in the catalog's words where these are known", () => {
    expect(tellMark({ left: 0, right: 9, done: true, spans: [span(0, 1, "writing", "bios 2.4.1")] })).toBe(
      "bios 2.4.1",
    );
    expect(tellMark({ left: 0, right: 9, done: true, spans: [span(0, 1, "power cycle")] })).toBe(
      "power cycle",
    );
  });
});
