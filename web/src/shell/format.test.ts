import { describe, expect, it } from "vitest";

import {
  agree,
  ago,
  count,
  duration,
  foldNames,
  foldRuns,
  month,
  someNames,
  size,
  tellWindow,
} from "./format";

describe("numbers carry units", () => {
  it.each([
    [0, "0 kB"],
    [1, "1 kB"],
    [1500, "2 kB"],
    [31_400_000, "31.4 MB"],
    [1_460_000_000, "1.46 GB"],
  ])("%i bytes", (bytes, told) => {
    expect(size(bytes)).toBe(told);
  });

  it.each([
    [-3, "0 s"],
    [45, "45 s"],
    [240, "4 min"],
    [3600, "1 h 0 min"],
    [4800, "1 h 20 min"],
  ])("%i seconds", (seconds, told) => {
    expect(duration(seconds)).toBe(told);
  });

  it("tells how long ago", () => {
    const now = Date.parse("2026-11-23T12:00:00Z");
    expect(ago("2026-11-23T11:59:30Z", now)).toBe("just now");
    expect(ago("2026-11-23T11:00:00Z", now)).toBe("1 h 0 min ago");
    expect(ago("2026-11-13T12:00:00Z", now)).toBe("10 days ago");
  });

  it("counts and dates", () => {
    expect([count(1, "server"), count(0, "server")]).toEqual(["1 server", "0 servers"]);
    expect([1, 0, 2].map((n) => agree(n, "misses", "miss"))).toEqual(["misses", "miss", "miss"]);
    expect(month("2026-09-24")).toBe("Sep 26");
  });
});

describe("names", () => {
  it.each([
    [["surge-07"], "surge-07"],
    [["surge-07", "surge-08"], "surge-07, -08"],
    [["surge-01", "surge-02", "surge-03", "surge-10"], "surge-01 … -10"],
    [["gauge-01", "vault-02"], "gauge-01, vault-02"],
    [[], ""],
  ])("%j fold into %s", (names, told) => expect(foldNames(names)).toBe(told));
});

it.each([
  [[], ""],
  [["bios"], "bios"],
  [["drive-00", "drive-01"], "drive-00, -01"],
  [["drive-00", "drive-01", "drive-02", "drive-03", "drive-05"], "drive-00 … -03, -05"],
  [["drive-03", "drive-07", "drive-08", "drive-09"], "drive-03, -07 … -09"],
  [["nic-9", "nic-10", "nic-11"], "nic-9 … -11"],
  [["bmc", "bmc"], "bmc, bmc"],
])("ranges are told only of what follows each other: %j", (names, told) => {
  expect(foldRuns(names)).toBe(told);
});

it("of many names the first are told, and how many more there are", () => {
  expect(someNames(["a", "b"], 2)).toBe("a, b");
  expect(someNames(["a", "b", "c"], 2)).toBe("a, b and 1 more");
  expect(
    someNames(
      Array.from({ length: 2001 }, () => "a"),
      1,
    ),
  ).toBe("a and 2,000 more");
});

describe("the window in the frame", () => {
  const window = { start: "2026-11-26T22:00:00Z", end: "2026-11-27T04:00:00Z" };
  const at = (time: string) => tellWindow(window, Date.parse(time));

  it("tells what is left of it, or when it opens", () => {
    expect(tellWindow(null, 0)).toBe("no window kept");
    expect(at("2026-11-26T18:50:00Z")).toBe("window in 3 h 10 min");
    expect(at("2026-11-27T02:40:00Z")).toBe("window open, 1 h 20 min left");
    expect(at("2026-11-27T04:00:00Z")).toBe("the window is over");
    expect(at("2026-11-20T04:00:00Z")).toMatch(/^window Thu,? 26 Nov \d\d:\d\d$/);
  });
});
