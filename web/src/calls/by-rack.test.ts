import { describe, expect, it } from "vitest";

import type { Call } from "../api/client";
import { dueOf, freshOf, unseenOf } from "../shell/calls";
import { stopsOf } from "./by-rack";

const call = (id: string, more: Partial<Call> = {}): Call => ({
  id,
  kind: "tick",
  run: 1,
  run_name: "a night",
  server: id,
  room: "Kelp",
  rack: "K1",
  unit: 1,
  text: "",
  told: "",
  since: null,
  key: id,
  seen_by: "",
  ...more,
});

describe("calls", () => {
  it("stand by the rack at which they are, each rack once", () => {
    const rows = [call("a"), call("b", { rack: "K2" }), call("c"), call("gate", { room: "", rack: "" })];
    expect(stopsOf(rows).map((stop) => [stop.where, stop.calls.map((c) => c.id)])).toEqual([
      ["Kelp, rack K1", ["a", "c"]],
      ["Kelp, rack K2", ["b"]],
      ["", ["gate"]],
    ]);
  });

  it("that are only coming are not due, and one that somebody has seen is not called again", () => {
    const rows = [call("a"), call("b", { kind: "coming" }), call("c", { seen_by: "lead" })];
    expect(dueOf(rows).map((c) => c.id)).toEqual(["a", "c"]);
    expect(unseenOf(rows).map((c) => c.id)).toEqual(["a"]);
  });

  it("are told of once, when they are new", () => {
    const rows = [call("a"), call("b")];
    expect(freshOf(rows, new Set(["a"])).map((c) => c.id)).toEqual(["b"]);
    expect(freshOf(rows, new Set(["a", "b"]))).toEqual([]);
  });
});
