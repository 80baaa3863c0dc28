import { describe, expect, it } from "vitest";

import { type Found, indexOf } from "./found";

const entry = (group: string, label: string, hint = ""): Found => ({
  group,
  label,
  hint,
  go: () => undefined,
});

const SERVERS = Array.from({ length: 10_000 }, (_, n) =>
  entry("Servers", `surge-${String(n + 1).padStart(5, "0")}`, `Corvane Reed 14, K${n % 40} unit ${n % 42}`),
);
const ALL = [entry("Do", "Read all servers", "survey"), entry("Places", "Floor"), ...SERVERS];

describe("finding", () => {
  it.each([
    ["", "Read all servers"],
    ["SURGE-04711", "surge-04711"],
    ["surge 4711", "surge-04711"],
    ["survey", "Read all servers"],
    ["reed k7", "surge-00008"],
    ["nobody", undefined],
  ])("%s is %s first", (line, first) => {
    expect(indexOf(ALL)(line).rows[0]?.label).toBe(first);
  });

  it("shows few of many, and says how many there are", () => {
    const { rows, totals } = indexOf(ALL)("surge");
    expect(rows).toHaveLength(15);
    expect(totals.get("Servers")).toBe(10_000);
    expect(totals.get("Places")).toBe(0);
  });

  it("puts the group first that fits best", () => {
    const found = indexOf([entry("Do", "Look at drift", "floor"), entry("Places", "Floor")]);
    expect(found("floor").rows.map((row) => row.group)).toEqual(["Places", "Do"]);
    expect(found("").rows.map((row) => row.group)).toEqual(["Do", "Places"]);
  });

  it("names what is there twice once", () => {
    expect(
      indexOf([entry("Runs", "Night 1", "ended"), entry("Runs", "Night 1", "ended")])("").rows,
    ).toHaveLength(1);
  });
});
