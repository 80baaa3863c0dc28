import { expect, it } from "vitest";

import { readNumbers, tellNumbers } from "./numbers";

it("reads what it tells, names with colons too", () => {
  const numbers = { K1: 3, "Kelp: upper": 10 };
  expect(readNumbers(tellNumbers(numbers))).toEqual(numbers);
  expect(readNumbers("\n K1 : 0 \n\n")).toEqual({ K1: 0 });
});

it("passes on what is no number, so that it is refused and not lost", () => {
  expect(readNumbers("K1")).toEqual({ K1: Number.NaN });
  expect(readNumbers("K1: few")).toEqual({ K1: Number.NaN });
});
