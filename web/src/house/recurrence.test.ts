import { describe, expect, it } from "vitest";

import { ONCE, readRule, type Recurrence, spellRule, tellRule } from "./recurrence";

const rows: [Partial<Recurrence>, string, string][] = [
  [{}, "", "once"],
  [{ times: "daily" }, "FREQ=DAILY", "every night"],
  [{ times: "daily", every: 10 }, "FREQ=DAILY;INTERVAL=10", "every 10 nights"],
  [{ times: "weekly", days: ["TH", "TU"] }, "FREQ=WEEKLY;BYDAY=TU,TH", "every week on Tue, Thu"],
  [
    { times: "weekly", every: 2, days: ["TH"], until: "2027-03-01" },
    "FREQ=WEEKLY;INTERVAL=2;BYDAY=TH;UNTIL=20270301",
    "every 2 weeks on Thu, until 2027-03-01",
  ],
  [{ times: "monthly", days: ["SU"], nth: -1 }, "FREQ=MONTHLY;BYDAY=-1SU", "the last Sun of each month"],
  [{ times: "monthly", days: ["TH"], nth: 2 }, "FREQ=MONTHLY;BYDAY=2TH", "the second Thu of each month"],
];

describe("how a window comes again", () => {
  it.each(rows)("spells %j as %s", (change, rule, words) => {
    expect(spellRule({ ...ONCE, ...change })).toBe(rule);
    expect(tellRule(rule)).toBe(words);
  });

  it("reads back what it spelled", () => {
    for (const [change, rule] of rows) {
      const read = readRule(rule);
      expect(read && spellRule(read)).toBe(rule);
      expect(new Set(read?.days)).toEqual(new Set(change.days ?? []));
    }
  });

  it("shows a rule that it can't edit as it is", () => {
    for (const rule of ["FREQ=MONTHLY;BYMONTHDAY=-1", "FREQ=WEEKLY;COUNT=3", "FREQ=MONTHLY;BYDAY=1TH,3TH"]) {
      expect(readRule(rule)).toBeNull();
      expect(tellRule(rule)).toBe(rule);
    }
  });
});
