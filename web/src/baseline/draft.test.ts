import { describe, expect, it } from "vitest";

import type { CoverageRow, Effect, Issue } from "../api/client";
import { layoutCoverage, nearest, nextStop } from "./coverage-layout";
import { follow, followNewest, isSame, moveRule, type Rule } from "./draft";
import { effectRows } from "./effect-rows";
import { pairFiles } from "./pair-files";
import { whyNot } from "./RuleEditor";

const rules: Rule[] = [{ do: "hold" }, { do: "pin", version: "1" }, { do: "take" }];

describe("rules in order", () => {
  it.each([
    [0, 2, ["pin", "take", "hold"]],
    [2, 0, ["take", "hold", "pin"]],
    [1, 1, ["hold", "pin", "take"]],
    [0, -1, ["hold", "pin", "take"]],
    [2, 3, ["hold", "pin", "take"]],
  ])("%i to %i", (from, to, order) => {
    expect(moveRule(Object.freeze(rules) as Rule[], from, to).map((r) => r.do)).toEqual(order);
  });

  it.each<[Rule, boolean]>([
    [{ do: "hold", reason: "x" }, true],
    [{ do: "hold" }, false],
    [{ do: "take" }, true],
    [{ do: "pin", reason: "x" }, false],
    [{ do: "pin", reason: "x", version: "1" }, true],
    [{ do: "wait", reason: "x" }, false],
    [{ do: "wait", reason: "x", days: Number.NaN }, false],
    [{ do: "wait", reason: "x", days: 3, unless_score: 11 }, false],
    [{ do: "wait", reason: "x", days: 0 }, true],
  ])("%j can be put in: %s", (rule, can) => expect(whyNot(rule) === null).toBe(can));
});

const row = (model: string, covered: string[], followed: string | null, catalog = "c"): CoverageRow => ({
  model,
  servers: 1,
  maker: "M",
  catalog,
  covered,
  followed,
  chosen: false,
  dropped_after: null,
  newest: covered[covered.length - 1] ?? null,
  signed_by: "",
});
const issue = (name: string, issued: string, catalog = "c"): Issue => ({
  maker: "M",
  catalog,
  issue: name,
  issued,
  source: "",
  signed_by: "",
  brought_in: "",
  models: [],
  products: 0,
  releases: 0,
});

describe("what models follow", () => {
  it("replaces what the model followed and nothing else", () => {
    const before = [
      { model: "a", maker: "M", catalog: "c", issue: "1" },
      { model: "b", maker: "M", catalog: "c", issue: "1" },
    ];
    const after = follow(before, row("a", [], null), "2");
    expect(after.map((f) => f.model + f.issue).sort()).toEqual(["a2", "b1"]);
    expect(isSame({ rules, follows: before }, { rules, follows: before.slice().reverse() })).toBe(true);
    expect(isSame({ rules, follows: before }, { rules, follows: after })).toBe(false);
    expect(isSame({ rules, follows: [] }, { rules: moveRule(rules, 0, 1), follows: [] })).toBe(false);
  });

  it("goes to the newest everywhere, and leaves what no catalog covers", () => {
    expect(followNewest([], [row("a", ["1", "2"], "1"), row("p", [], null)])).toEqual([
      { model: "a", maker: "M", catalog: "c", issue: "2" },
    ]);
  });
});

describe("coverage bars", () => {
  const issues = [issue("2", "2026-02-01"), issue("1", "2026-01-01"), issue("9", "2026-01-15", "d")];
  const placed = layoutCoverage(
    [row("a", ["1", "2"], "1"), row("b", [], null), row("", ["9"], null, "d")],
    issues,
    900,
  );

  it("stands in order of date, pins on what is followed", () => {
    expect(placed.columns.map((c) => c.date)).toEqual(["2026-01-01", "2026-01-15", "2026-02-01"]);
    const [a, b, list] = placed.bars;
    expect(a?.pin).toBe(placed.columns[0]?.x);
    expect(b?.stops).toEqual([]);
    expect([list?.pin, list?.stops[0]?.x]).toEqual([null, placed.columns[1]?.x]);
  });

  it("keeps everything inside however narrow, and survives no issue at all", () => {
    for (const width of [100, 400, 2000])
      for (const c of layoutCoverage([], issues, width).columns)
        expect(c.x).toBeLessThanOrEqual(Math.max(width, 208));
    expect(layoutCoverage([row("a", ["1"], "1")], [], 900).columns).toEqual([]);
  });

  it.each([
    ["ArrowRight", "1", "2"],
    ["ArrowLeft", "1", "1"],
    ["End", "1", "3"],
    ["Home", "3", "1"],
    ["ArrowRight", "3", "3"],
    ["ArrowLeft", null, "3"],
  ])("%s from %s leads to %s", (key, at, to) => {
    const stops = ["1", "2", "3"].map((name, n) => ({ issue: name, x: n * 10 }));
    expect(nextStop(stops, at, key)?.issue).toBe(to);
    expect(nextStop(stops, at, "x")).toBeUndefined();
  });

  it("drops a pin on the nearest stop", () => {
    const stops = [
      { issue: "1", x: 0 },
      { issue: "2", x: 100 },
    ];
    expect([nearest(stops, 49)?.issue, nearest(stops, 51)?.issue, nearest([], 5)]).toEqual([
      "1",
      "2",
      undefined,
    ]);
  });
});

const sums = (over: Partial<Effect["after"]>): Effect["after"] => ({
  off: 0,
  exposed: 0,
  held: 0,
  servers: 0,
  outages: 0,
  power_cycles: 0,
  restarts: 0,
  writes: 0,
  bytes: 0,
  stranded: 0,
  fixes: [],
  ...over,
});

describe("an effect in rows", () => {
  it("signs what changes and marks what is worse", () => {
    const rows = effectRows(
      {
        before: sums({ off: 5, bytes: 100, fixes: ["a"] }),
        after: sums({ off: 3, bytes: 150, stranded: 1 }),
        fixes_gained: [],
        fixes_lost: ["a"],
        changes: [],
      },
      (n) => `${n} B`,
    );
    const by = Object.fromEntries(rows.map((r) => [r.label, [r.after, r.change, r.worse]]));
    expect(by["components off the baseline"]).toEqual(["3", "−2", false]);
    expect(by["to carry"]).toEqual(["150 B", "+50 B", false]);
    expect(by["servers without a way"]).toEqual(["1", "+1", true]);
    expect(by["advisories it closes"]).toEqual(["0", "−1", true]);
    expect(by["controller restarts"]).toEqual(["0", "", false]);
  });
});

it("pairs files with their signatures by name", () => {
  const files = ["b.json.sig", "a.json", "b.json", "c.sig"].map((name) => ({ name }));
  expect(pairFiles(files).map(([f, s]) => [f.name, s?.name])).toEqual([
    ["a.json", undefined],
    ["b.json", "b.json.sig"],
  ]);
});
