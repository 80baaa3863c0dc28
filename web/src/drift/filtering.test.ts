import { expect, it } from "vitest";

import { addressKey, asQuery, readFilters, tellFilter } from "./filtering";

it("reads what an address narrows to, and nothing else", () => {
  const params = new URLSearchParams(
    "room=Kelp&item=tessaly.r9&product=other&side=review&servers=a,b&only=drift",
  );
  expect(readFilters(params)).toEqual({ room: "Kelp", product: "tessaly.r9", servers: "a,b", only: "drift" });
  expect(readFilters(new URLSearchParams())).toEqual({});
});

it("tells each in words and gives the same to files", () => {
  expect(tellFilter("servers", "a,b,c")).toBe("3 selected");
  expect(tellFilter("verdict", "behind|exposed")).toBe("behind or exposed");
  expect(tellFilter("advisory", "SA-1")).toBe("affected by SA-1");
  expect([addressKey("product"), addressKey("room")]).toEqual(["item", "room"]);
  expect([asQuery({}), asQuery({ model: "Reed 14" })]).toEqual(["", "?model=Reed+14"]);
});
