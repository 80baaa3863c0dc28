import { describe, expect, it } from "vitest";

import type { RunServer, Span } from "../api/client";
import { endOf, isReset, remaining, scaleOf } from "./lanes";

const span = (start: number, end: number | null, kind = "writing"): Span => ({ kind, start, end, label: "" });
const lane = (plan: Span[], happened: Span[] = []): RunServer => ({ plan, happened, ended: "" }) as RunServer;

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
  const plan = [span(100, 160), span(160, 460, "server reboot"), span(460, 480, "checking")];

  it("keeps the plan while nothing has happened, but not in the past", () => {
    expect(remaining(lane(plan), 0).map((s) => s.start)).toEqual([100, 160, 460]);
    expect(remaining(lane(plan), 130).map((s) => s.start)).toEqual([130, 190, 490]);
  });

  it("shows only what is still to come, after the step under way", () => {
    const left = remaining(lane(plan, [span(200, null)]), 220);
    expect(left.map((s) => [s.kind, s.start])).toEqual([
      ["writing", 220],
      ["server reboot", 260],
      ["checking", 560],
    ]);
  });

  it("never draws a reset twice", () => {
    const left = remaining(lane(plan, [span(200, 250), span(250, null, "server reboot")]), 300);
    expect(left.map((s) => s.kind)).toEqual(["checking"]);
    expect(left[0]?.start).toBe(550);
  });

  it("waits no shorter than it already took", () => {
    expect(remaining(lane(plan, [span(0, null)]), 900)[0]?.start).toBe(900);
  });

  it("ends empty", () => {
    expect(remaining(lane([]), 10)).toEqual([]);
    expect(
      remaining(lane(plan, [span(0, 1), span(1, 2, "server reboot"), span(2, 3, "checking")]), 5),
    ).toEqual([]);
  });

  it("knows its resets", () => {
    expect(["staging", "controller restart", "server reboot", "power cycle"].filter(isReset)).toHaveLength(3);
  });
});
