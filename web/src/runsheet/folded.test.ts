import { expect, it } from "vitest";

import type { RunServer } from "../api/client";
import { foldPlans, foldStates, tellRounds, tellWrites } from "./folded";

type Round = RunServer["rounds"][number];
const round = (to: string, reset: string | null): Round =>
  ({ writes: [{ slot: "bios", source: "1.0", to }], reset }) as Round;
const lane = (server: string, more: Partial<RunServer>): RunServer =>
  ({
    server,
    rounds: [],
    overrides: [],
    stranded: [],
    ended: "",
    question: "",
    state: "waiting",
    ...more,
  }) as RunServer;

it("servers are one row only where the very same is to be done", () => {
  const folds = foldPlans([
    lane("a", { rounds: [round("2.0", "server reboot")] }),
    lane("b", { rounds: [round("2.1", "server reboot")] }),
    lane("c", { rounds: [round("2.0", "server reboot")] }),
    lane("d", { rounds: [round("2.0", null)] }),
    lane("e", {
      rounds: [round("2.0", "server reboot")],
      overrides: [{ check: "feeds", reason: "by hand" }],
    }),
  ]);
  expect(folds.map((lanes) => lanes.map((l) => l.server).join(" "))).toEqual(["a c", "b", "d", "e"]);
});

it("what needs a person comes first, what is done last, and nothing is left out", () => {
  const folds = foldStates([
    lane("a", { ended: "level" }),
    lane("b", {}),
    lane("c", { state: "writing" }),
    lane("d", { ended: "failed", question: "" }),
    lane("e", { state: "resetting", question: "By force?" }),
    lane("f", { ended: "level", question: "By force?" }),
  ]);
  expect(folds.map(({ stand, lanes }) => [stand, ...lanes.map((l) => l.server)])).toEqual([
    ["needs a person", "d", "e"],
    ["under way", "c"],
    ["waiting", "b"],
    ["done", "a", "f"],
  ]);
  expect(foldStates([])).toEqual([]);
});

it("equal writes to slots of a kind are told together, in their order", () => {
  const write = (slot: string, to: string) => ({ slot, to }) as Round["writes"][number];
  const drives = Array.from({ length: 8 }, (_, i) => write(`drive-0${i}`, "GX04"));
  expect(
    tellWrites([write("bios", "3.2"), ...drives, write("drive-12", "B01"), write("nic-1", "24.2")]),
  ).toBe("bios 3.2, drive-00 … -07 GX04, drive-12 B01, nic-1 24.2");
  expect(tellWrites(drives.slice(0, 2))).toBe("drive-00, -01 GX04");
  expect(tellWrites([])).toBe("");
});

it("the rounds of a server are told in order, and why there are none", () => {
  const rounds = [
    round("2.0", "server reboot"),
    { writes: [], reset: "controller restart" },
    round("2.1", null),
  ];
  expect(tellRounds(lane("a", { rounds: rounds as Round[] }))).toBe(
    "bios 2.0, server reboot; nothing to write, controller restart; bios 2.1",
  );
  expect(tellRounds(lane("a", { detail: "Left over: no window" }))).toBe("Left over: no window");
});
