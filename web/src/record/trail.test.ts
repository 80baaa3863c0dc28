import { expect, it } from "vitest";

import { tellFacts } from "./trail";

it.each([
  [{}, ""],
  [{ order: "hold" }, "order hold"],
  [{ servers: ["a", "b"], may_be_away: 2 }, "servers a, b, may be away 2"],
  [{ servers: ["a", "b", "c", "d", "e"] }, "servers a, b, c and 2 more"],
  [{ pin: null, rules: [], by: { right: "run" } }, "pin none, rules none, by (right run)"],
])("tells facts in a line", (facts, told) => {
  expect(tellFacts(facts)).toBe(told);
});

it("leaves out what says nothing where it is asked to", () => {
  expect(tellFacts({ failed: false, servers: [], group: "", name: null, user: "ordnung" }, true)).toBe(
    "user ordnung",
  );
});
