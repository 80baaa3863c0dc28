import { expect, it } from "vitest";

import type { Me } from "./client";
import { barredBy } from "./rights";

const viewer: Me = {
  name: "viewer",
  event: 0,
  csrf: "",
  rights: ["look"],
  table: [
    { right: "run", words: "start", who: ["lead", "technician"] },
    { right: "keep", words: "people", who: [] },
  ],
};

it("says whom to ask where a right is missing, and nothing where it is there or not known yet", () => {
  expect(barredBy("look", viewer)).toBeNull();
  expect(barredBy("run", undefined)).toBeNull();
  expect(barredBy("run", viewer)).toBe(
    "It takes the right to run, which you don't have. lead, technician can.",
  );
  expect(barredBy("keep", viewer)).toContain("Nobody here has it.");
});
