import { expect, it } from "vitest";

/** The code of the interface by its path from here. */
const SOURCES = import.meta.glob<string>("../*/*.{ts,tsx}", {
  query: "?raw",
  import: "default",
  eager: true,
});
const EXPORTED = /^export (?:async )?(?:const|function|interface|type|class) (\w+)(.*)$/;
/** The names of the contract's own shapes and questions say what they are: their descriptions stand in the contract. */
const isOfTheContract = (path: string, rest: string): boolean =>
  path.endsWith("/queries.ts") || path.endsWith("/schema.d.ts") || /= (?:Schemas\[|Me\[)/.test(rest);

it("every exported name says what it is", () => {
  const bare: string[] = [];
  let all = 0;
  for (const [path, code] of Object.entries(SOURCES)) {
    if (path.includes(".test.")) continue;
    const lines = code.split("\n");
    lines.forEach((line, at) => {
      const [, name, rest = ""] = EXPORTED.exec(line) ?? [];
      if (!name || isOfTheContract(path, rest)) return;
      all += 1;
      if (!lines[at - 1]?.endsWith("*/")) bare.push(`${path}: ${name}`);
    });
  }
  expect(bare).toEqual([]);
  expect(all).toBeGreaterThan(150);
});
