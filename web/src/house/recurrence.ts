// How a window comes again: as the editor asks for it, and as RFC 5545 spells it.

/** How often a window opens. */
export const TIMES = ["once", "daily", "weekly", "monthly"] as const;
/** One of them. */
export type Times = (typeof TIMES)[number];

/** The days of the week as RFC 5545 spells them, from Monday on. */
export const DAYS = ["MO", "TU", "WE", "TH", "FR", "SA", "SU"] as const;
/** One of them. */
export type Day = (typeof DAYS)[number];

/** The same days for people. */
export const DAY_NAMES: Record<Day, string> = {
  MO: "Mon",
  TU: "Tue",
  WE: "Wed",
  TH: "Thu",
  FR: "Fri",
  SA: "Sat",
  SU: "Sun",
};

/** A recurrence as it is edited: every so many days, weeks or months, on which days, until when. */
export interface Recurrence {
  times: Times;
  every: number;
  days: Day[];
  /** Of a month: the first, second … or last (-1) such day. */
  nth: number;
  until: string;
}

/** A window that comes once. */
export const ONCE: Recurrence = { times: "once", every: 1, days: [], nth: 1, until: "" };

const FREQ: Record<Exclude<Times, "once">, string> = { daily: "DAILY", weekly: "WEEKLY", monthly: "MONTHLY" };

/** The rule of RFC 5545 for it; empty for once. */
export function spellRule({ times, every, days, nth, until }: Recurrence): string {
  if (times === "once") return "";
  const sorted = DAYS.filter((day) => days.includes(day));
  const by = times === "monthly" ? sorted.map((day) => `${nth}${day}`) : times === "weekly" ? sorted : [];
  return [
    `FREQ=${FREQ[times]}`,
    every > 1 ? `INTERVAL=${every}` : "",
    by.length ? `BYDAY=${by.join(",")}` : "",
    until ? `UNTIL=${until.replaceAll("-", "")}` : "",
  ]
    .filter(Boolean)
    .join(";");
}

/** A rule as it is edited; null where it says more than the editor can show. */
export function readRule(rule: string): Recurrence | null {
  if (!rule) return ONCE;
  const told = new Map(rule.split(";").map((part) => part.split("=") as [string, string]));
  const times = TIMES.find((t) => t !== "once" && FREQ[t] === told.get("FREQ"));
  const by = (told.get("BYDAY") ?? "").split(",").filter(Boolean);
  const nths = new Set(by.map((day) => Number(day.slice(0, -2) || 1)));
  const known = ["FREQ", "INTERVAL", "BYDAY", "UNTIL"];
  if (!times || nths.size > 1 || [...told.keys()].some((key) => !known.includes(key))) return null;
  const until = told.get("UNTIL") ?? "";
  return {
    times,
    every: Number(told.get("INTERVAL") ?? 1),
    days: by.map((day) => day.slice(-2) as Day),
    nth: [...nths][0] ?? 1,
    until: until && `${until.slice(0, 4)}-${until.slice(4, 6)}-${until.slice(6, 8)}`,
  };
}

const NTH: Record<number, string> = { 1: "first", 2: "second", 3: "third", 4: "fourth", [-1]: "last" };
/** Which of a month there are to choose from. */
export const NTHS = [1, 2, 3, 4, -1] as const;
/** "second". */
export const tellNth = (nth: number): string => NTH[nth] ?? String(nth);

/** A rule in words: "every 2 weeks on Tue, Thu", "the last Sun of each month". */
export function tellRule(rule: string): string {
  const read = readRule(rule);
  if (!read) return rule;
  const days = read.days.map((day) => DAY_NAMES[day]).join(", ");
  const until = read.until ? `, until ${read.until}` : "";
  const often = (one: string, many: string) => (read.every > 1 ? `every ${read.every} ${many}` : one);
  if (read.times === "once") return "once";
  if (read.times === "daily") return `${often("every night", "nights")}${until}`;
  if (read.times === "weekly") return `${often("every week", "weeks")}${days ? ` on ${days}` : ""}${until}`;
  const which = days ? `the ${tellNth(read.nth)} ${days} of ` : "";
  return `${which}${often("each month", "months")}${until}`;
}
