import { describe, expect, it } from "vitest";

import { EVERYWHERE, keysAt, OF_PLACE } from "./keys";

/** The code of the interface by its path from here. */
const SOURCES = import.meta.glob<string>("../*/*.{ts,tsx}", {
  query: "?raw",
  import: "default",
  eager: true,
});
/** How the list spells what a browser calls by another name. */
const SPELLED: Record<string, string> = {
  ArrowUp: "↑",
  ArrowDown: "↓",
  ArrowLeft: "←",
  ArrowRight: "→",
  Escape: "Esc",
  Home: "Home",
  End: "End",
  Enter: "Enter",
  " ": "Space",
  "-": "−",
  "=": "+",
};
const FOLDER: Record<string, string> = { "run-sheet": "runsheet" };

/** The keys that the code of a folder answers, as browsers call them. */
function answered(folder: string): Set<string> {
  const found = new Set<string>();
  for (const [path, code] of Object.entries(SOURCES)) {
    if (!path.startsWith(`../${folder}/`) || path.includes(".test.")) continue;
    for (const [, key = ""] of code.matchAll(/\.key [!=]== "([^"]+)"/g)) found.add(key);
    for (const [, key = ""] of code.matchAll(/["{ ](Arrow(?:Up|Down|Left|Right)|Home|End)(?:"|: )/g))
      found.add(key);
  }
  return found;
}

describe.each(Object.keys(OF_PLACE))("the keys of %s", (place) => {
  it("stand in the list", () => {
    const listed = keysAt(`/${place}/7`)
      .map(([keys]) => keys)
      .join(" ")
      .split(/[ ,]+/);
    for (const key of answered(FOLDER[place] ?? place)) expect(listed, key).toContain(SPELLED[key] ?? key);
  });
});

it("the keys of the frame stand in every list", () => {
  const frame = SOURCES["./Frame.tsx"] ?? SOURCES["../shell/Frame.tsx"] ?? "";
  const [, table = ""] = /\(\{ (.*?) \} as Record<string, Sheet>\)\[event.key\]/.exec(frame) ?? [];
  const keys = [...table.matchAll(/"?([^\s":]+)"?: "/g)].map(([, key]) => key);
  expect(keys).toEqual(["/", "w", "?"]);
  for (const key of keys) expect(EVERYWHERE.map(([listed]) => listed)).toContain(key);
  expect(keysAt("/people")).toEqual(EVERYWHERE);
});

it("the floor answers more keys than a few: the test sees them", () => {
  expect(answered("floor").size).toBeGreaterThan(9);
  expect(answered("runsheet")).toContain("n");
});
