import { describe, expect, it } from "vitest";

import type { Line, Offer, Trim } from "../api/client";
import { groupOffers, layOut, readCapacity, readTrims, sameTrim, spellTrims, toggled } from "./trims";

const line = (kind: string, size: number, reasons = ["target"], state: Line["state"] = "waiting"): Line => ({
  product: kind,
  name: kind,
  kind,
  version: "1",
  size,
  sha256: "",
  reasons,
  servers: [],
  state,
  bytes: 0,
  unsigned: false,
  signer: "",
  generation: null,
  form: "pldm",
  medium: 1,
  message: "",
  trimmed: [],
});

describe("the scale bar", () => {
  it("adds up by kind, ways back apart, what is left out last", () => {
    const parts = layOut(
      [
        line("nic", 30),
        line("bios", 10),
        line("nic", 30, ["way back"]),
        line("drive", 30, ["target"], "left out"),
      ],
      0,
    );
    expect(parts.map((p) => [p.kind, p.bytes, p.out])).toEqual([
      ["bios", 10, false],
      ["nic", 30, false],
      ["way back", 30, false],
      ["drive", 30, true],
    ]);
    expect(parts.reduce((n, p) => n + p.share, 0)).toBeCloseTo(1);
    expect(parts[3]?.from).toBeCloseTo(0.7);
  });
  it("is drawn to the medium where that is larger", () => {
    expect(layOut([line("bios", 25)], 100)[0]?.share).toBe(0.25);
    expect(layOut([line("bios", 200)], 100)[0]?.share).toBe(1);
  });
  it("a payload that is a target and a way back goes forward", () => {
    expect(layOut([line("bios", 5, ["target", "way back"])], 0)[0]?.kind).toBe("bios");
  });
  it("has nothing for nothing", () => expect(layOut([], 0)).toEqual([]));
});

describe("trims in the address", () => {
  const trims: Trim[] = [
    { by: "kind", value: "drive" },
    { by: "payload", value: "a.b 3.2.0" },
    { by: "model", value: "Reed 12: old" },
  ];
  it("come back as they were", () => expect(readTrims(spellTrims(trims))).toEqual(trims));
  it("junk is left out", () =>
    expect(readTrims("colour:red|kind|:x|kind:raid")).toEqual([{ by: "kind", value: "raid" }]));
  it("go in and out by one act", () => {
    const one = toggled([], trims[0] as Trim);
    expect(one).toHaveLength(1);
    expect(toggled(one, { ...(trims[0] as Trim) })).toEqual([]);
    expect(sameTrim({ by: "kind", value: "x" }, { by: "model", value: "x" })).toBe(false);
  });
});

describe("a medium in the address", () => {
  it.each([
    [null, null],
    ["", null],
    ["x", null],
    ["12", null],
    ["4700000000", 4.7e9],
  ])("%s", (text, bytes) => expect(readCapacity(text)).toBe(bytes));
});

describe("trims that are offered", () => {
  const offer = (by: Offer["by"], value: string): Offer => ({
    by,
    value,
    label: value,
    saves: 1,
    payloads: 1,
    made: false,
  });
  it("one model alone is no choice", () =>
    expect(groupOffers([offer("model", "a"), offer("product", "p")]).map(([w]) => w)).toEqual(["Products"]));
  it("kinds are the bar's", () =>
    expect(groupOffers([offer("kind", "a"), offer("reason", "way back")])).toEqual([]));
});
