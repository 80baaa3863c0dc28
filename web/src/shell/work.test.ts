import { describe, expect, it } from "vitest";

import type { Work } from "../api/client";
import { shortened, workLine } from "./work";

let id = 0;
const work = (state: Work["state"], more: Partial<Work> = {}): Work =>
  ({ id: ++id, state, kind: "survey", title: `${state} ${id}`, seen: false, ...more }) as Work;

describe("the work line", () => {
  const done = work("done");
  const run = work("running", { kind: "run" });
  const survey = work("running");
  const asked = work("asked");
  const old = work("failed");
  const failed = work("failed");
  const seen = work("failed", { seen: true });
  const since = work("running");

  it.each([
    ["nothing", [], null, ""],
    ["what ended last", [done, seen], seen, ""],
    ["what is under way", [done, survey, asked], survey, "1 more under way"],
    ["a run before all else", [asked, survey, run, done], run, "2 more under way"],
    ["what waits", [done, asked], asked, ""],
    ["the newest failure first", [old, run, failed, survey], failed, "1 more failed, 2 under way"],
    ["a failure alone", [old, done], old, ""],
    [
      "what was asked for since, while it is under way",
      [run, failed, since],
      since,
      "1 failed, 1 more under way",
    ],
  ])("says %s", (_, all, main, others) => {
    expect(workLine(all)).toEqual({ main, others });
  });

  it("shortens long names in their middle, and nothing else", () => {
    expect(shortened("corvane.reed14.bios-3.2.0-a1b2c3d4e5.pldm fetched, 2 of 3")).toBe(
      "corvane.reed14…b2c3d4e5.pldm fetched, 2 of 3",
    );
    expect(shortened("Reading all servers")).toBe("Reading all servers");
  });
});
