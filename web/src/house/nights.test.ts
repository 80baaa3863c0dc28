import { describe, expect, it } from "vitest";

import { clockChange, dayAfter, mondayOf, nightsOf, tellOpening, wallOf } from "./nights";

const ZONE = "Europe/Lisbon";
const opening = (start: string, end: string) => ({ window: "Thursdays", start, end });

describe("a week of nights", () => {
  it("reads the wall clock of a zone, not the browser's", () => {
    expect(wallOf(new Date("2026-07-01T22:30:00Z"), ZONE)).toEqual({
      day: "2026-07-01",
      minute: 23 * 60 + 30,
    });
    expect(wallOf(new Date("2026-11-26T00:00:00Z"), "Pacific/Chatham").minute).toBe(13 * 60 + 45);
  });

  it("begins on Monday and counts days over months and years", () => {
    expect(mondayOf("2026-11-26")).toBe("2026-11-23");
    expect(mondayOf("2026-11-23")).toBe("2026-11-23");
    expect(mondayOf("2027-01-03")).toBe("2026-12-28");
    expect(dayAfter("2026-12-31")).toBe("2027-01-01");
  });

  it("lays a window over midnight into one night, and a long one into each that it touches", () => {
    const nights = nightsOf(
      "2026-11-23",
      [
        opening("2026-11-26T22:00:00Z", "2026-11-27T04:00:00Z"),
        opening("2026-11-28T00:00:00Z", "2026-11-29T13:00:00Z"),
      ],
      "UTC",
    );
    const told = nights.map((n) => n.pieces.map((p) => [p.left * 24, p.right * 24, p.goesOn]));
    expect(told).toEqual([[], [], [], [[10, 16, false]], [[12, 24, true]], [[0, 24, true]], [[0, 1, true]]]);
  });

  it("says when the clock is put on or back within a window", () => {
    const back = opening("2026-10-24T21:00:00Z", "2026-10-25T04:00:00Z");
    expect(clockChange(back, ZONE)).toBe(1);
    expect(tellOpening(back, ZONE)).toBe("Thursdays, 22:00 to 04:00, 7 h, the clock is put back in it");
    expect(clockChange(opening("2026-03-28T22:00:00Z", "2026-03-29T03:00:00Z"), ZONE)).toBe(-1);
    expect(tellOpening(opening("2026-11-26T22:00:00Z", "2026-11-27T04:00:00Z"), ZONE)).toBe(
      "Thursdays, 22:00 to 04:00, 6 h",
    );
  });
});
