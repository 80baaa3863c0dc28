import { describe, expect, it } from "vitest";

import type { Server } from "../api/client";
import { nextName, racks, span, top, walk } from "./layout";

const server = (name: string, unit: number, height = 1, rack = "K1"): Server => ({ name, unit, height, rack }) as Server;

describe("a rack", () => {
  const servers = [server("vault-02", 4, 2), server("surge-01", 41), server("surge-02", 40), server("far", 3, 1, "K2")];

  it("is walked from the top down, one rack at a time", () => {
    expect(walk(servers, "K1").map((s) => s.name)).toEqual(["surge-01", "surge-02", "vault-02"]);
    expect(racks(servers)).toEqual(["K1", "K2"]);
    expect(walk([], "K1")).toEqual([]);
  });

  it("places a server by its lowest unit", () => {
    expect(top(server("a", 42))).toBe(0);
    expect(top(server("a", 1))).toBe(41);
    expect(top(server("a", 4, 2))).toBe(37);
  });
});

describe("the next name", () => {
  const order = ["a", "b", "c"];
  it.each([
    ["a", "ArrowDown", "b"],
    ["c", "ArrowDown", "c"],
    ["a", "ArrowUp", "a"],
    ["b", "Home", "a"],
    ["b", "End", "c"],
    [null, "ArrowDown", "a"],
    [null, "ArrowUp", "c"],
    ["gone", "ArrowDown", "a"],
  ])("from %s by %s is %s", (from, key, next) => {
    expect(nextName(order, from, key)).toBe(next);
  });

  it("is nothing in an empty rack", () => expect(nextName([], null, "ArrowDown")).toBeNull());

  it("spans in either direction", () => {
    expect(span(order, "a", "c")).toEqual(order);
    expect(span(order, "c", "b")).toEqual(["b", "c"]);
  });
});
