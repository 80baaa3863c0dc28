import { describe, expect, it } from "vitest";

const SOURCES = Object.entries(
  import.meta.glob<string>("../*/*.{ts,tsx}", { query: "?raw", import: "default", eager: true }),
).filter(([path]) => !path.includes(".test."));

/** Its error is read there, by itself or together with others. */
const isShown = (name: string, code: string): boolean =>
  new RegExp(`\\b${name}\\b.*\\berror\\b|\\[[^\\]]*\\b${name}\\b[^\\]]*\\]`).test(code);

describe("a command that is refused", () => {
  it("says so where it was given, or at the bottom of the page", () => {
    const silent = SOURCES.flatMap(([path, code]) =>
      [...code.matchAll(/const (\w+) = useMutation\(\{\s*(meta: ALOUD)?/g)]
        .filter(([, name = "", aloud]) => !aloud && !isShown(name, code))
        .map(([, name]) => `${path}: ${name}`),
    );
    expect(silent).toEqual([]);
  });

  it("is never left to the browser's console", () => {
    const dropped = SOURCES.filter(([, code]) => /void take\(/.test(code)).map(([path]) => path);
    expect(dropped).toEqual([]);
  });
});
