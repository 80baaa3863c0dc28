import { describe, expect, it } from "vitest";

import { layOut } from "./month-lines";

const day = (text: string, off: number, servers = 10) => ({ day: text, servers, off, exposed: 0 });

describe("lines over months", () => {
  it("go from the first day kept to the last, the more is off the higher", () => {
    const [line] = layOut([{ model: "A", days: [day("2026-09-01", 0), day("2026-10-01", 10)] }], 400, 100);
    expect(line?.points).toBe("44.0,96.0 400.0,16.0");
    expect(line?.most).toBe(10);
  });
  it("keep names apart and inside, however close their ends are", () => {
    const models = ["A", "B", "C", "D"].map((model) => ({ model, days: [day("2026-09-01", 0)] }));
    const at = layOut(models, 400, 100).map((line) => line.labelY);
    const sorted = [...at].sort((a, b) => a - b);
    sorted.slice(1).forEach((y, n) => expect(y - (sorted[n] ?? 0)).toBeGreaterThanOrEqual(15));
    expect(Math.max(...at)).toBeLessThanOrEqual(100);
  });
  it("are told apart by their dashes", () => {
    const models = ["A", "B", "C"].map((model) => ({ model, days: [day("2026-09-01", 3)] }));
    expect(new Set(layOut(models, 400, 100).map((line) => line.dashes)).size).toBe(3);
  });
  it("leave out a model that was never read, and divide by no servers", () => {
    expect(layOut([{ model: "A", days: [] }], 400, 100)).toEqual([]);
    expect(layOut([{ model: "A", days: [day("2026-09-01", 0, 0)] }], 400, 100)[0]?.points).toBe("44.0,96.0");
  });
});
