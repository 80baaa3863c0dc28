import { describe, expect, it } from "vitest";

import { day, night, type Tokens } from "./theme";

type Triple = [number, number, number];

/**
 * What is seen without one kind of cone, in linear RGB: Machado, Oliveira and Fernandes, "A Physiologically-based Model
 * for Simulation of Color Vision Deficiency" (2009), severity 1.
 */
const BLINDNESS: Record<string, [Triple, Triple, Triple]> = {
  none: [
    [1, 0, 0],
    [0, 1, 0],
    [0, 0, 1],
  ],
  protanopia: [
    [0.152286, 1.052583, -0.204868],
    [0.114503, 0.786281, 0.099216],
    [-0.003882, -0.048116, 1.051998],
  ],
  deuteranopia: [
    [0.367322, 0.860646, -0.227968],
    [0.280085, 0.672501, 0.047413],
    [-0.01182, 0.04294, 0.968881],
  ],
  tritanopia: [
    [1.255528, -0.076749, -0.178779],
    [-0.078411, 0.930809, 0.147602],
    [0.004733, 0.691367, 0.3039],
  ],
};
const TO_XYZ: [Triple, Triple, Triple] = [
  [0.4124, 0.3576, 0.1805],
  [0.2126, 0.7152, 0.0722],
  [0.0193, 0.1192, 0.9505],
];

const times = (m: [Triple, Triple, Triple], [a, b, c]: Triple): Triple =>
  m.map(([x, y, z]) => x * a + y * b + z * c) as Triple;
const linear = (hex: string): Triple =>
  [1, 3, 5].map((at) => {
    const v = parseInt(hex.slice(at, at + 2), 16) / 255;
    return v <= 0.04045 ? v / 12.92 : ((v + 0.055) / 1.055) ** 2.4;
  }) as Triple;

function lab(hex: string, blindness: string): Triple {
  const seen = times(BLINDNESS[blindness] ?? TO_XYZ, linear(hex)).map((v) =>
    Math.min(1, Math.max(0, v)),
  ) as Triple;
  const [x, y, z] = times(TO_XYZ, seen);
  const f = (t: number) => (t > 0.008856 ? Math.cbrt(t) : 7.787 * t + 16 / 116);
  const [fx, fy, fz] = [f(x / 0.9505), f(y), f(z / 1.089)];
  return [116 * fy - 16, 500 * (fx - fy), 200 * (fy - fz)];
}

/** CIE 1976: about 2 can just be told apart side by side; 10 at a glance. */
const distance = (a: string, b: string, blindness: string): number => {
  const [p, q] = [lab(a, blindness), lab(b, blindness)];
  return Math.hypot(p[0] - q[0], p[1] - q[1], p[2] - q[2]);
};

/** The colours that stand side by side and mean different states. */
const STATES: Record<string, (keyof Tokens)[]> = {
  "the timetable, done": ["water", "ink", "done", "deep", "ink3"],
  "a release line": ["water", "deep", "pending"],
  "glyphs beside one another": ["water", "deep", "routine"],
  tags: ["deep2", "rule", "water2", "done2", "pending2"],
};
const AT_A_GLANCE = 10;
/** Shape, place or a word tells these apart as well; they need only be seen to differ. */
const AT_LEAST = 4;

describe.each(Object.keys(BLINDNESS))("with %s", (blindness) => {
  it.each(Object.keys(STATES))("states differ in %s", (where) => {
    const close: string[] = [];
    for (const [scheme, tokens] of Object.entries({ day, night })) {
      const names = STATES[where] ?? [];
      names.forEach((a, i) =>
        names.slice(i + 1).forEach((b) => {
          const apart = distance(tokens[a], tokens[b], blindness);
          const needed = where === "tags" ? AT_LEAST : AT_A_GLANCE;
          if (apart < needed) close.push(`${scheme}: ${a} and ${b} are ${apart.toFixed(1)} apart`);
        }),
      );
    }
    expect(close).toEqual([]);
  });
});
