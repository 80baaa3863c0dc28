import { describe, expect, it } from "vitest";

import type { Cell } from "../api/client";
import { depth } from "./Glyph";
import { tellCell, tellServer, VERDICTS } from "./words";

const cell = (kind: string, verdict: string, more: Partial<Cell> = {}): Cell =>
  ({ kind, verdict, behind: 0, versions: "2.1.0", target: "3.2.0", count: 1, via: [], ...more }) as Cell;

describe("the waterline", () => {
  it("hangs deeper for each release up to four", () => {
    const depths = [1, 2, 3, 4].map(depth);
    expect(new Set(depths).size).toBe(4);
    expect(depth(9)).toBe(depth(4));
    expect(depth(0)).toBe(depth(1));
  });

  it("has a word for every verdict", () => {
    expect(Object.keys(VERDICTS).sort()).toEqual([
      "ahead",
      "behind",
      "exposed",
      "held",
      "level",
      "pending",
      "stranded",
      "unlisted",
      "unordered",
      "unread",
    ]);
  });
});

describe("cells in words", () => {
  it.each([
    [cell("bios", "exposed", { behind: 4 }), "BIOS 2.1.0 → 3.2.0: behind, security fix missing, 4 releases"],
    [cell("bios", "level", { versions: "3.2.0" }), "BIOS 3.2.0: on the baseline"],
    [cell("nic", "unread", { count: 0 }), "Network: none read"],
  ])("are told", (given, told) => expect(tellCell(given)).toBe(told));

  it("name what is off and nothing else", () => {
    const cells = [
      cell("bios", "exposed"),
      cell("controller", "behind"),
      cell("nic", "level"),
      cell("drive", "pending"),
    ];
    expect(tellServer(cells)).toBe("BIOS, controller, drives (waiting for a reset)");
  });
});
