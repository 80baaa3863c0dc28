import { describe, expect, it } from "vitest";

import type { ReleaseData, ReleaseLineData } from "../api/client";
import { dotsOf, exposedAt, layout } from "./line-layout";

const release = (version: string, more: Partial<ReleaseData> = {}): ReleaseData =>
  ({
    version,
    components: 0,
    waiting: 0,
    importance: "routine",
    is_target: false,
    is_stop: false,
    ...more,
  }) as ReleaseData;

const data = (more: Partial<ReleaseLineData> = {}): ReleaseLineData =>
  ({
    releases: [
      release("1", { components: 3 }),
      release("2", { is_stop: true, waiting: 1 }),
      release("3", { is_target: true, importance: "security" }),
      release("4"),
    ],
    ways: [
      { source: "1", to: "2", reset: "server reboot", components: 2 },
      { source: "2", to: "3", reset: "server reboot", components: 1 },
    ],
    floor: "2",
    elsewhere: [],
    ...more,
  }) as ReleaseLineData;

describe("dots", () => {
  it.each([0, 1, 12, 13, 36, 5000])("of %i components stay in three rows of twelve", (n) => {
    const dots = dotsOf(n, 100, 10);
    expect(dots).toHaveLength(Math.min(n, 36));
    expect(new Set(dots.map((d) => d.y)).size).toBe(Math.ceil(Math.min(n, 36) / 12));
  });

  it("are centred under their release", () => {
    const xs = dotsOf(5, 100, 0).map((d) => d.x);
    expect(xs.reduce((a, b) => a + b, 0) / 5).toBeCloseTo(100);
  });
});

describe("a release line", () => {
  it("keeps the releases in order, inside the width", () => {
    const placed = layout(data(), 1000, 76);
    const xs = ["1", "2", "3", "4"].map(placed.x);
    expect([...xs].sort((a, b) => a - b)).toEqual(xs);
    expect(xs[0]).toBeGreaterThan(0);
    expect(xs[3]).toBeLessThan(1000);
  });

  it("draws an arc for each leg with its reset, and none to what is not in the list", () => {
    const odd = data({ ways: [...data().ways, { source: "0.9", to: "1", reset: "at once", components: 1 }] });
    expect(layout(odd, 1000, 76).arcs.map((a) => a.label)).toEqual(["reboot ×2", "reboot"]);
  });

  it("tells all the resets of a leg at one arc", () => {
    const leg = { source: "1", to: "2" };
    const ways = [
      { ...leg, reset: "server reboot", components: 2 },
      { ...leg, reset: "at once", components: 1 },
    ];
    const two = layout(data({ ways }), 1000, 76);
    expect(two.arcs.map((a) => a.label)).toEqual(["reboot ×2, at once"]);
  });

  it("puts the barrier before the floor version, or nowhere", () => {
    const placed = layout(data(), 1000, 76);
    expect(placed.barrier).toBeGreaterThan(placed.x("1"));
    expect(placed.barrier).toBeLessThan(placed.x("2"));
    expect(layout(data({ floor: null }), 1000, 76).barrier).toBeNull();
    expect(layout(data({ floor: "9" }), 1000, 76).barrier).toBeNull();
  });

  it("counts waiting ones where they will be", () => {
    expect(layout(data(), 1000, 76).dots.get("2")).toHaveLength(1);
  });

  it("knows from which releases a security fix is still to come", () => {
    expect([...exposedAt(data().releases)]).toEqual(["1", "2"]);
    expect(exposedAt([release("1"), release("2", { importance: "security" })]).size).toBe(0);
    expect(exposedAt([]).size).toBe(0);
  });

  it("stands with one release and with none", () => {
    expect(layout(data({ releases: [release("1")], ways: [] }), 300, 76).x("1")).toBeGreaterThan(0);
    expect(layout(data({ releases: [], ways: [], floor: null }), 300, 76).arcs).toEqual([]);
  });
});
