import { describe, expect, it } from "vitest";

import { addWave, besideOf, changeWave, dropWave, moveServer, moveWave, type WaveDraft } from "./waves";

const wave = (name: string, ...servers: string[]): WaveDraft => ({
  name,
  wait_seconds: 0,
  gate: "none",
  not_before: null,
  servers,
});
const WAVES = [wave("canary", "a"), wave("half", "b", "c"), wave("rest", "d")];
const told = (waves: WaveDraft[]) => waves.map((w) => [w.name, w.servers.join("")]);

describe("waves", () => {
  it("lets a server go with another wave, once", () => {
    expect(told(moveServer(WAVES, "b", "canary"))).toEqual([
      ["canary", "ab"],
      ["half", "c"],
      ["rest", "d"],
    ]);
    expect(told(moveServer(WAVES, "a", "canary"))).toEqual(told(WAVES));
  });

  it("finds the wave before and after, and none beyond the ends", () => {
    expect(besideOf(WAVES, "b", -1)).toBe("canary");
    expect(besideOf(WAVES, "b", 1)).toBe("rest");
    expect(besideOf(WAVES, "d", 1)).toBeNull();
    expect(besideOf(WAVES, "nobody", 1)).toBeNull();
  });

  it("moves a wave, and not over the ends", () => {
    expect(moveWave(WAVES, "rest", -2).map((w) => w.name)).toEqual(["rest", "canary", "half"]);
    expect(moveWave(WAVES, "canary", 1).map((w) => w.name)).toEqual(["half", "canary", "rest"]);
    expect(moveWave(WAVES, "canary", -1)).toBe(WAVES);
  });

  it("loses nobody when a wave goes", () => {
    expect(told(dropWave(WAVES, "half"))).toEqual([
      ["canary", "abc"],
      ["rest", "d"],
    ]);
    expect(told(dropWave(WAVES, "canary"))).toEqual([
      ["half", "bca"],
      ["rest", "d"],
    ]);
    expect(dropWave([wave("only", "a")], "only")).toEqual([]);
  });

  it("adds a wave under a name that none has, and changes one", () => {
    expect(addWave([wave("wave 2"), wave("x")]).at(-1)?.name).toBe("wave 3");
    expect(addWave([wave("wave 3"), wave("x")]).at(-1)?.name).toBe("wave 4");
    expect(changeWave(WAVES, "rest", { gate: "person" })[2]?.gate).toBe("person");
  });
});
