import { describe, expect, it } from "vitest";

import type { RunServer, Span } from "../api/client";
import { endOf, isReset, scaleOf, shifted } from "./lanes";

const span = (start: number, end: number | null, kind = "writing"): Span => ({ kind, start, end, label: "" });
const lane = (plan: Span[], happened: Span[] = []): RunServer => ({ plan, happened }) as RunServer;

describe("the time axis", () => {
  it.each([0, 60, 600, 4500, 36_000])("of %i seconds has at most nine ticks, all on it", (end) => {
    const scale = scaleOf(end, 800);
    expect(scale.ticks.length).toBeGreaterThan(0);
    expect(scale.ticks.length).toBeLessThanOrEqual(10);
    for (const tick of scale.ticks) expect(tick.x).toBeLessThanOrEqual(800);
  });

  it("reaches to the last end, planned or happened, and never ends before now", () => {
    expect(endOf([lane([span(0, 100)], [span(0, 250)])], 20)).toBe(250);
    expect(endOf([lane([span(0, 100)], [span(0, null)])], 300)).toBe(300);
    expect(endOf([], 0)).toBe(0);
  });
});

describe("a lane", () => {
  it("moves its plan to where it really began", () => {
    const moved = shifted(lane([span(100, 200), span(200, 260)], [span(130, null)]));
    expect(moved.map((s) => [s.start, s.end])).toEqual([[130, 230], [230, 290]]);
  });

  it("keeps the plan while nothing has happened", () => {
    expect(shifted(lane([span(100, 200)]))[0]?.start).toBe(100);
    expect(shifted(lane([], [span(1, 2)]))).toEqual([]);
  });

  it("knows its resets", () => {
    expect(["staging", "controller restart", "server reboot", "power cycle"].filter(isReset)).toHaveLength(3);
  });
});
