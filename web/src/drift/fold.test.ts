import { describe, expect, it } from "vitest";

import type { Server } from "../api/client";
import { fold } from "./fold";

const server = (name: string, signature: string, off = 0, exposed = 0, model = "Reed 14", read: string | null = "2026-11-23"): Server =>
  ({ name, signature, off, exposed, model, read_at: read }) as Server;

describe("folding", () => {
  it("puts equal servers into one row and the odd ones first", () => {
    const [group] = fold([server("a", "x"), server("b", "y", 2, 1), server("c", "x"), server("d", "z", 3)]);
    expect(group?.folds.map((f) => f.names)).toEqual([["b"], ["d"], ["a", "c"]]);
    expect(group?.count).toBe(4);
  });

  it("shows the model with most servers first", () => {
    const told = fold([server("v", "1", 0, 0, "Heath 24"), server("a", "2"), server("b", "3")]);
    expect(told.map((t) => t.model)).toEqual(["Reed 14", "Heath 24"]);
  });

  it("never folds servers that were not read", () => {
    const told = fold([server("a", "same", 0, 0, "", null), server("b", "same", 0, 0, "", null)]);
    expect(told[0]?.model).toBe("Not read yet");
    expect(told[0]?.folds).toHaveLength(2);
  });

  it("folds nothing into nothing", () => expect(fold([])).toEqual([]));

  it("keeps up with 10,000 servers", () => {
    const many = Array.from({ length: 10_000 }, (_, i) => server(`s${i}`, `${i % 40}`, i % 3));
    expect(fold(many)[0]?.folds).toHaveLength(40);
  });
});
