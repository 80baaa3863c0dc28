import { describe, expect, it } from "vitest";

import type { Run } from "./client";
import { Lately, type Told, withTold } from "./lanes";

const lane = (server: string, state = "waiting") => ({ server, state, detail: "", percent: null });
const run = (event: number, ...lanes: ReturnType<typeof lane>[]) =>
  ({ id: 7, event, finished: event, servers: lanes }) as unknown as Run;
const step = (event: number, server: string, state: string): Told => ({
  event,
  step: { run: 7, server, state, detail: "4 %", percent: 4 },
});
const part = (event: number, ...lanes: ReturnType<typeof lane>[]): Told => ({
  event,
  part: run(event, ...lanes),
});
const states = (row: Run) => row.servers.map((s) => `${s.server} ${s.state}`);

describe("a run that fills in", () => {
  it("takes the lanes that it is told and keeps the others, in their order", () => {
    const row = withTold(run(3, lane("a"), lane("b"), lane("c")), part(5, lane("b", "writing")));
    expect(states(row)).toEqual(["a waiting", "b writing", "c waiting"]);
    expect([row.event, row.finished]).toEqual([5, 5]);
  });

  it("takes a step of one server", () => {
    const row = withTold(run(3, lane("a"), lane("b")), step(4, "b", "writing"));
    expect(states(row)).toEqual(["a waiting", "b writing"]);
    expect(row.servers[1]?.percent).toBe(4);
    expect(row.event).toBe(3);
  });

  it("is not put back by what it has in it already", () => {
    const row = run(5, lane("a", "level"));
    expect(withTold(row, part(5, lane("a", "writing")))).toBe(row);
    expect(withTold(row, step(4, "a", "writing"))).toBe(row);
  });
});

describe("an answer that comes late", () => {
  it("is brought up to date by what was told since, of this run alone", () => {
    const lately = new Lately();
    lately.add(7, part(4, lane("a", "writing")));
    lately.add(7, step(6, "b", "checking"));
    lately.add(8, step(7, "a", "level"));
    expect(states(lately.bring(run(3, lane("a"), lane("b"))))).toEqual(["a writing", "b checking"]);
    expect(states(lately.bring(run(5, lane("a"), lane("b"))))).toEqual(["a waiting", "b checking"]);
  });

  it("is asked for again when it is older than what was missed", () => {
    const lately = new Lately();
    expect(lately.isOld(run(3))).toBe(false);
    lately.missed(4);
    expect([lately.isOld(run(3)), lately.isOld(run(4))]).toEqual([true, false]);
  });

  it("does not remember for ever", () => {
    const lately = new Lately();
    lately.add(7, step(4, "a", "writing"));
    for (let n = 0; n < 400; n++) lately.add(8, step(5 + n, "a", "writing"));
    expect(states(lately.bring(run(3, lane("a"))))).toEqual(["a waiting"]);
  });
});
