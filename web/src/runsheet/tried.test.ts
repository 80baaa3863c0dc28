import { expect, it } from "vitest";

import type { Tried } from "../api/client";
import { tellTried } from "./tried";

const tried = (change: Partial<Tried>): Tried => ({
  refused: "",
  start: "2026-11-26T22:00:00Z",
  end: "2026-11-27T01:20:00Z",
  planned_seconds: 12_000,
  sooner_seconds: 0,
  sure_end: null,
  left: [],
  groups: {},
  ...change,
});

it("tells the end, what moves, and who is left over", () => {
  expect(tellTried(tried({}))).toMatch(/^It would end \d\d:\d\d, as now; nobody is left over\.$/);
  expect(tellTried(tried({ sooner_seconds: 720 }))).toContain("12 min earlier than now");
  expect(tellTried(tried({ sooner_seconds: -4800 }))).toContain("1 h 20 min later than now");
  expect(tellTried(tried({ sure_end: "2026-11-27T01:38:00Z" }))).toMatch(
    / \(nine in ten by \d\d:38\), as now/,
  );
  const left = [{ server: "surge-01", reason: "needs 52 min, 31 are left" }];
  expect(tellTried(tried({ left }))).toContain("1 server left over: surge-01.");
});

it("tells the rule that forbids it", () => {
  expect(tellTried(tried({ refused: "surge-01 can't begin just then: group pair allows 1 away" }))).toBe(
    "It can't be: surge-01 can't begin just then: group pair allows 1 away.",
  );
});
