import { describe, expect, it } from "vitest";

import type { RunServer, Span } from "../api/client";
import { allSpans, bandsOf, densityOf, groupingOf, LAYERS, peakOf, rowsOf, tellBand } from "./bands";

const span = (start: number, end: number | null, kind = "writing"): Span => ({ kind, start, end, label: "" });
const lane = (server: string, more: Partial<RunServer> = {}): RunServer =>
  ({
    server,
    group: "",
    room: "Kelp",
    rack: "K1",
    ended: "",
    question: "",
    state: "waiting",
    plan: [],
    happened: [],
    ...more,
  }) as RunServer;
const HOUSE = [
  lane("a", { group: "ring", rack: "K2" }),
  lane("b", { group: "pair" }),
  lane("c", { group: "ring" }),
  lane("d"),
];

describe("bands", () => {
  it("hold every lane once, in the order of the sheet", () => {
    expect(bandsOf(HOUSE, "group").map((b) => [b.name, ...b.lanes.map((l) => l.server)])).toEqual([
      ["ring", "a", "c"],
      ["pair", "b"],
      ["in no group", "d"],
    ]);
    expect(bandsOf(HOUSE, "rack").map((b) => [b.name, b.lanes.length])).toEqual([
      ["Kelp K2", 1],
      ["Kelp K1", 3],
    ]);
    expect(bandsOf(HOUSE, "none")).toEqual([]);
  });

  it("are made where there are many, unless someone chose", () => {
    expect(groupingOf(null, 12, false)).toBe("none");
    expect(groupingOf(null, 88, false)).toBe("group");
    expect(groupingOf("none", 1000, false)).toBe("none");
    expect(groupingOf("moon", 3, false)).toBe("none");
  });

  it("fold to one row and open to their lanes", () => {
    const rows = rowsOf(HOUSE, bandsOf(HOUSE, "group"), new Set(["ring"]));
    expect(rows.map((row) => row.band?.name ?? row.lane?.server)).toEqual([
      "ring",
      "a",
      "c",
      "pair",
      "in no group",
    ]);
    expect(rowsOf(HOUSE, [], new Set())).toHaveLength(4);
  });

  it("say how many are where, what needs a person first", () => {
    const lanes = [
      lane("a", { ended: "level" }),
      lane("b", { ended: "failed" }),
      lane("c", { state: "writing" }),
      lane("d", { state: "resetting", question: "Restart it by force?" }),
      lane("e"),
    ];
    expect(tellBand(lanes)).toEqual(["1 asks", "1 failed", "5 servers", "1 under way", "1 done"]);
    expect(tellBand([lane("a")])).toEqual(["1 server"]);
  });
});

describe("a density", () => {
  const spans = [
    span(0, 100),
    span(50, 150, "server reboot"),
    span(90, null, "checking"),
    span(400, 900, "unheard of"),
  ];

  it("holds as many seconds of each kind as the spans have in sight, however it is cut", () => {
    for (const pieces of [1, 7, 40, 333]) {
      const density = densityOf(spans, { from: 20, to: 520 }, pieces, 120);
      const seconds = LAYERS.map((layer) => density[layer].reduce((a, b) => a + b, 0) * (500 / pieces));
      expect(seconds.map((s) => Math.round(s))).toEqual([0, 80 + 120, 100, 30, 0]);
    }
  });

  it("peaks at the most that are busy at once", () => {
    expect(peakOf(densityOf(spans, { from: 0, to: 1000 }, 1000, 120))).toBeCloseTo(3);
    expect(peakOf(densityOf([], { from: 0, to: 10 }, 5, 0))).toBe(0);
  });

  it("keeps what happened apart from what is to come", () => {
    const some = lane("a", {
      state: "writing",
      plan: [span(0, 60), span(60, 90, "server reboot")],
      happened: [span(10, 70)],
    });
    const { done, ahead } = allSpans([some, lane("b", { ended: "level", plan: [span(0, 9)] })], 80, true);
    expect(done).toEqual([span(10, 70)]);
    expect(ahead.map((s) => [s.kind, s.start])).toEqual([["server reboot", 80]]);
  });
});
