import { describe, expect, it } from "vitest";

import type { RunServer, Span } from "../api/client";
import {
  awayOf,
  CLOSEST,
  closer,
  endOf,
  isReset,
  readStretch,
  remaining,
  scaleOf,
  spellStretch,
  within,
  closedIn,
} from "./timescale";

const span = (start: number, end: number | null, kind = "writing"): Span => ({ kind, start, end, label: "" });
const lane = (plan: Span[], happened: Span[] = []): RunServer => ({ plan, happened, ended: "" }) as RunServer;

describe("the time axis", () => {
  it.each([
    [0, 60],
    [0, 600],
    [30, 4500],
    [7000, 7100],
    [0, 36_000],
    [0, 1_000_000],
  ])("from %i to %i seconds has few ticks at round times, all on it", (from, to) => {
    for (const width of [200, 800, 1600]) {
      const scale = scaleOf({ from, to }, width);
      expect(scale.ticks.length).toBeLessThanOrEqual(9);
      for (const tick of scale.ticks) {
        expect(tick.at % 15).toBe(0);
        expect(tick.x).toBeGreaterThanOrEqual(0);
        expect(tick.x).toBeLessThanOrEqual(width);
      }
    }
    expect(scaleOf({ from, to }, 800).ticks.length).toBeGreaterThan(0);
  });

  it("has its ticks at the clock's round times where the run began at an odd one", () => {
    const begun = 7 * 3600 + 46 * 60;
    const { ticks } = scaleOf({ from: 0, to: 3 * 3600 }, 800, begun);
    expect(ticks.map((t) => (t.at + begun) % 1800)).toEqual(ticks.map(() => 0));
    expect(ticks[0]?.at).toBe(14 * 60);
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

describe("the stretch in sight", () => {
  const whole = { from: 0, to: 10_000 };

  it("is what the address says, and the whole where that lies on no sheet", () => {
    expect(readStretch("600-1200", 0, whole)).toEqual({ from: 600, to: 1200 });
    for (const said of [null, "", "x", "1200-600", "100-120", "20000-30000", "-5-900", "1e3-2e3"])
      expect(readStretch(said, 0, whole)).toEqual(whole);
  });

  it("goes along with now, and stays on the sheet", () => {
    expect(readStretch("now-1000", 5000, whole)).toEqual({ from: 4400, to: 5400 });
    expect(readStretch("now-1000", 0, whole)).toEqual({ from: 0, to: 1000 });
    expect(readStretch("now-1000", 10_000, whole)).toEqual({ from: 9000, to: 10_000 });
    expect(readStretch("now-90000", 5000, whole)).toEqual(whole);
  });

  it("is said so that it is read again; the whole is not said", () => {
    expect(spellStretch(whole, whole)).toBeNull();
    const said = spellStretch({ from: 600.4, to: 1200.2 }, whole);
    expect(readStretch(said, 0, whole)).toEqual({ from: 600, to: 1200 });
  });

  it("keeps the moment under the pointer where it is, as long as the sheet allows", () => {
    const next = closer({ from: 2000, to: 4000 }, 2, 2500, whole);
    expect(next).toEqual({ from: 2250, to: 3250 });
    expect((2500 - next.from) / (next.to - next.from)).toBeCloseTo(0.25);
    expect(closer(whole, 0.5, 5000, whole)).toEqual(whole);
    const closest = closer({ from: 0, to: 100 }, 50, 50, whole);
    expect(closest.to - closest.from).toBe(CLOSEST);
  });

  it("never leaves the sheet", () => {
    expect(within({ from: -500, to: 500 }, whole)).toEqual({ from: 0, to: 1000 });
    expect(within({ from: 9800, to: 10_800 }, whole)).toEqual({ from: 9000, to: 10_000 });
    expect(within({ from: -1, to: 99_999 }, whole)).toEqual(whole);
  });
});

describe("where no window is open", () => {
  it("is what lies between windows and beside them", () => {
    const day = { from: 0, to: 100 };
    expect(closedIn(day, null)).toEqual([]);
    expect(closedIn(day, [{ from: 20, to: 60 }])).toEqual([
      { from: 0, to: 20 },
      { from: 60, to: 100 },
    ]);
    expect(
      closedIn(day, [
        { from: 50, to: 70 },
        { from: -10, to: 55 },
      ]),
    ).toEqual([{ from: 70, to: 100 }]);
    expect(closedIn(day, [{ from: 200, to: 300 }])).toEqual([day]);
    expect(closedIn(day, [{ from: -5, to: 300 }])).toEqual([]);
  });
});

describe("how long a server is out of service", () => {
  const step = (kind: string, start: number, end: number) => ({ kind, start, end, label: "" });
  const away = (...plan: ReturnType<typeof step>[]) => awayOf({ plan } as RunServer);

  it("is from its first outage until it is done", () => {
    expect(
      away(step("controller restart", 0, 50), step("server reboot", 60, 90), step("checking", 90, 110)),
    ).toBe(50);
    expect(away(step("controller restart", 0, 50), step("checking", 50, 70))).toBe(0);
    expect(away()).toBe(0);
  });
});
