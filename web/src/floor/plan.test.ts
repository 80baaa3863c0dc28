import { describe, expect, it } from "vitest";

import type { FloorColumns } from "../api/client";
import { lensOf, LENSES } from "./lenses";
import {
  boxOf,
  fit,
  layOut,
  readLook,
  reveal,
  rackOf,
  SCALES,
  span,
  spellLook,
  spotAt,
  spotsIn,
  step,
  zoom,
} from "./plan";
import { readSpots, type Spot, tellOff, tellResets, tellSpot, worst } from "../waterline/spots";

const spot = (name: string, facts: Partial<Spot> = {}): Spot => ({
  name,
  model: "Reed 14",
  serial: "",
  room: "Kelp",
  rack: "K1",
  unit: 1,
  height: 1,
  group: "",
  marks: [],
  off: 0,
  exposed: 0,
  score: 0,
  components: 0,
  outages: 0,
  cycles: 0,
  restarts: 0,
  read: 1000,
  health: "ok",
  reach: "https",
  hindrances: "",
  failure: "",
  lost: 0,
  running: 0,
  ...facts,
});
const house = [
  spot("a", { unit: 42 }),
  spot("b", { unit: 40 }),
  spot("c", { unit: 1, height: 2 }),
  spot("d", { rack: "K2", unit: 39 }),
  spot("e", { rack: "K10", unit: 2 }),
  spot("f", { room: "Slate", rack: "S1", unit: 10 }),
  spot("g", { room: "", rack: "", unit: 0 }),
];
const plan = layOut(house, 900);

describe("the plan", () => {
  it("orders rooms and racks by name, numbers by value, what has no place last", () => {
    expect(plan.racks.map((r) => r.rack)).toEqual(["K1", "K2", "K10", "S1", ""]);
    expect(plan.racks[0]?.spots.map((s) => s.name)).toEqual(["a", "b", "c"]);
  });
  it("gives few racks the whole width and overlaps none", () => {
    expect(plan.width).toBeLessThanOrEqual(900);
    for (const [n, rack] of plan.racks.entries()) {
      const next = plan.racks[n + 1];
      if (next) expect(next.x).toBeGreaterThanOrEqual(rack.x + rack.width);
    }
  });
  it("stands a server on its lowest unit, to scale", () => {
    const rack = plan.racks[0];
    const [a, , c] = rack?.spots ?? [];
    if (!rack || !a || !c) throw new Error("no rack");
    expect(boxOf(rack, a).y).toBe(rack.y);
    // 42 and 40 with 41 between, then one row for 39 to 3, then the two units of c.
    expect(rack.rows.breaks).toEqual([{ row: 3, from: 39, to: 3 }]);
    expect(boxOf(rack, c)).toMatchObject({ y: rack.y + 4 * rack.unit, height: 2 * rack.unit });
  });
  it("uses the height there is, and never less than a unit needs", () => {
    const tall = Math.max(...plan.racks.map((rack) => rack.y + rack.height));
    expect(tall).toBeLessThanOrEqual(600);
    expect(plan.racks[0]?.unit).toBeGreaterThanOrEqual(13);
    expect(layOut([spot("a", { unit: 3 })], 900, 600).racks[0]?.unit).toBe(30);
  });
  it("draws many racks to scale, folding nothing", () => {
    const many = layOut(
      Array.from({ length: 20 }, (_, n) => spot(`n${n}`, { rack: `R${n}`, unit: 7 })),
      900,
    );
    const rack = many.racks[0];
    if (!rack?.spots[0]) throw new Error("no rack");
    expect(rack.rows.breaks).toEqual([]);
    expect(boxOf(rack, rack.spots[0]).y).toBe(rack.y + 35 * 13);
  });
  it("finds what is at a point and in a frame", () => {
    for (const s of house) {
      const rack = rackOf(plan, s.name);
      if (!rack) throw new Error(s.name);
      const box = boxOf(rack, s);
      expect(spotAt(plan, box.x + 3, box.y + box.height / 2)?.name).toBe(s.name);
    }
    expect(spotAt(plan, -5, 50)).toBeNull();
    expect(spotsIn(plan, { x: 0, y: 0, width: plan.width, height: plan.height }).length).toBe(house.length);
    expect(spotsIn(plan, { x: 0, y: 0, width: 1, height: 1 })).toEqual([]);
  });
  it("keeps a thousand racks apart and in sight", () => {
    const many = layOut(
      Array.from({ length: 4000 }, (_, n) =>
        spot(`n${n}`, { room: `H${n % 9}`, rack: `R${n % 100}`, unit: (n % 40) + 1 }),
      ),
      900,
      600,
    );
    const seen = new Set(many.racks.map((r) => `${Math.round(r.x)},${Math.round(r.y)}`));
    expect(seen.size).toBe(many.racks.length);
    const look = fit(many, 900, 600);
    expect(many.width * look.scale).toBeLessThanOrEqual(900.001);
    expect(many.height * look.scale).toBeLessThanOrEqual(600.001);
  });
});

describe("walking", () => {
  it.each([
    [null, "ArrowDown", "a"],
    ["a", "ArrowDown", "b"],
    ["a", "ArrowUp", "a"],
    ["c", "ArrowDown", "c"],
    ["b", "Home", "a"],
    ["b", "End", "c"],
    ["b", "ArrowRight", "d"],
    ["c", "ArrowRight", "d"],
    ["d", "ArrowRight", "e"],
    ["d", "ArrowLeft", "b"],
    ["a", "ArrowLeft", "a"],
    ["nobody", "ArrowUp", "a"],
  ])("from %s by %s to %s", (from, key, to) => expect(step(plan, from, key)).toBe(to));
  it("spans everything between two, across racks too", () => {
    expect(span(plan, "b", "d")).toEqual(["b", "c", "d"]);
    expect(span(plan, "d", "b")).toEqual(["b", "c", "d"]);
  });
});

describe("looking", () => {
  it("is said in the address so that it is read again; what can't be read is everything", () => {
    const look = { scale: 0.734, left: -12, top: 340 };
    expect(readLook(spellLook(look))).toEqual(look);
    for (const said of [null, "", "700", "a.b.c", "700.1.2.3", "7e2.1.1"]) expect(readLook(said)).toBeNull();
    expect(readLook("99999.0.0")?.scale).toBe(SCALES[1]);
    expect(readLook("0.0.0")?.scale).toBe(SCALES[0]);
  });

  it("keeps the point under the pointer while zooming", () => {
    const look = { scale: 0.5, left: 10, top: 20 };
    const closer = zoom(look, 2, 100, 50);
    expect(100 / look.scale + look.left).toBeCloseTo(100 / closer.scale + closer.left);
    expect(50 / look.scale + look.top).toBeCloseTo(50 / closer.scale + closer.top);
  });
  it("moves as little as needed to reveal", () => {
    const look = { scale: 1, left: 0, top: 0 };
    expect(reveal(look, { x: 10, y: 10, width: 5, height: 5 }, 100, 100)).toEqual(look);
    expect(reveal(look, { x: 120, y: -8, width: 5, height: 5 }, 100, 100)).toEqual({
      scale: 1,
      left: 25,
      top: -8,
    });
  });
});

describe("spots", () => {
  const columns = {
    revision: 1,
    now: "",
    verdicts: { a: "level", b: "behind", c: "exposed", z: "unread" },
    name: ["x"],
    model: ["m"],
    serial: [""],
    room: [""],
    rack: ["K1"],
    unit: [3],
    height: [1],
    group: [""],
    cells: ["a0b2c1a0z0a0"],
    others: ["Bb1"],
    off: [3],
    exposed: [1],
    score: [8.1],
    components: [9],
    outages: [3],
    cycles: [1],
    restarts: [1],
    read: [5],
    health: ["ok"],
    reach: ["https"],
    hindrances: [""],
    failure: [""],
    lost: [1],
    running: [0],
  } satisfies FloorColumns;
  const [x] = readSpots(columns);
  if (!x) throw new Error("nothing read");
  it("reads cells by place and others by letter", () => {
    expect(x.marks.map((m) => `${m.letter} ${m.verdict} ${m.behind}`)).toEqual([
      "F level 0",
      "M behind 2",
      "R exposed 1",
      "N level 0",
      "D unread 0",
      "P level 0",
      "B behind 1",
    ]);
    expect(worst(x)).toBe("exposed");
  });
  it("tells what is off and what it costs", () => {
    expect(tellOff(x)).toBe("controller, RAID, backplane");
    expect(tellResets(x)).toBe("2 reboots, 1 power cycle, 1 controller restart");
    expect(tellSpot(x)).toContain("x; rack K1 unit 3; controller behind");
    expect(tellOff(spot("y", { read: 0 }))).toBe("not read yet");
    expect(worst(spot("y", { marks: [{ letter: "P", kind: "power", verdict: "held", behind: 0 }] }))).toBe(
      "level",
    );
  });
});

describe("lenses", () => {
  const now = 1_000_000_000;
  it.each([
    ["exposure", { score: 9 }, "deep", "9.0"],
    ["exposure", { score: 5 }, "pending", "5.0"],
    ["exposure", {}, "done", "closed"],
    ["exposure", { read: 0 }, "rule", "not read"],
    ["age", { read: now / 1000 - 30 }, "water", "now"],
    ["age", { read: now / 1000 - 7200 }, "routine", "2 h 0 min"],
    ["age", { read: now / 1000 - 9e5 }, "deep", "10 d"],
    ["age", { read: 0 }, "rule", "never"],
    ["health", {}, "done", "well"],
    ["health", { hindrances: "job pending, x" }, "pending", "job pending"],
    ["health", { health: "critical", lost: 2 }, "deep", "2 vanished"],
    ["health", { health: "unknown" }, "rule", "not told"],
    ["reach", { reach: "own" }, "pending", "itself first"],
    ["reach", { reach: "none" }, "deep", "no way"],
    ["groups", {}, "rule", "in none"],
  ] as const)("%s of %o is %s, %s", (name, facts, tone, text) => {
    const view = lensOf(name).view(spot("x", facts), now);
    expect([view.tone, view.text]).toEqual([tone, text]);
    expect(view.part).toBeGreaterThanOrEqual(0);
    expect(view.part).toBeLessThanOrEqual(1);
  });
  it("falls back to the waterline", () => {
    expect(lensOf("nonsense")).toBe(LENSES[0]);
    expect(lensOf(null).name).toBe("waterline");
  });
});
