import { duration } from "../shell/format";
import type { Tokens } from "../theme/theme";
import type { Spot } from "../waterline/spots";
import { worst } from "../waterline/spots";

/** The questions that the floor can be looked at with. */
export type LensName = "waterline" | "exposure" | "age" | "health" | "groups" | "reach";
/** A colour by the token that holds it in both schemes. */
export type Tone = keyof Tokens;

/** What a lens says of one server: a tone for the mark, a few letters beside it, and how full the mark is (0 to 1). */
export interface View {
  tone: Tone;
  text: string;
  part: number;
}

/** A lens: one question asked of the whole floor. */
export interface Lens {
  name: LensName;
  label: string;
  asks: string;
  view: (spot: Spot, now: number) => View;
  legend: [Tone, number, string][];
}

const DRIFT: Record<string, Tone> = {
  level: "water",
  behind: "routine",
  exposed: "deep",
  ahead: "ahead",
  pending: "pending",
  held: "ink2",
  unlisted: "ink2",
  unordered: "ink2",
  stranded: "routine",
  unread: "rule",
};
const HOUR = 3_600;
const AGES: [number, Tone][] = [
  [HOUR, "water"],
  [24 * HOUR, "routine"],
  [7 * 24 * HOUR, "pending"],
  [Infinity, "deep"],
];

function age(spot: Spot, now: number): View {
  if (!spot.read) return { tone: "rule", text: spot.failure || "never", part: 0 };
  const gone = now / 1000 - spot.read;
  const step = AGES.findIndex(([limit]) => gone < limit);
  const text = gone < 90 ? "now" : gone < 48 * HOUR ? duration(gone) : `${Math.round(gone / 86_400)} d`;
  return {
    tone: AGES[step]?.[1] ?? "deep",
    text: spot.failure ? `${text}, ${spot.failure}` : text,
    part: (step + 1) / AGES.length,
  };
}

const HEALTH: Record<string, View> = {
  ok: { tone: "done", text: "well", part: 0.25 },
  warning: { tone: "pending", text: "warning", part: 0.6 },
  critical: { tone: "deep", text: "critical", part: 1 },
  unknown: { tone: "rule", text: "not told", part: 0 },
};
const REACH: Record<string, View> = {
  https: { tone: "water", text: "fetches", part: 1 },
  push: { tone: "routine", text: "is pushed", part: 0.7 },
  http: { tone: "pending", text: "plain HTTP", part: 0.5 },
  own: { tone: "pending", text: "itself first", part: 0.3 },
  none: { tone: "deep", text: "no way", part: 1 },
  unknown: { tone: "rule", text: "not known", part: 0 },
};
const GROUP_TONES: Tone[] = ["water", "ahead", "routine", "done", "pending", "deep"];

function health(spot: Spot): View {
  const view = HEALTH[spot.health] ?? { tone: "rule", text: spot.health, part: 0 };
  if (spot.lost) return { ...view, text: `${spot.lost} vanished` };
  return spot.hindrances
    ? {
        tone: spot.health === "ok" ? "pending" : view.tone,
        text: spot.hindrances.split(",")[0] ?? "",
        part: Math.max(0.5, view.part),
      }
    : view;
}

const hash = (text: string): number => [...text].reduce((sum, c) => (sum * 31 + c.charCodeAt(0)) % 997, 7);

/** All lenses, in the order in which they are offered. */
export const LENSES: Lens[] = [
  {
    name: "waterline",
    label: "Waterline",
    asks: "how far from the baseline",
    view: (spot) => ({ tone: DRIFT[worst(spot)] ?? "rule", text: spot.failure, part: spot.off ? 1 : 0.2 }),
    legend: [],
  },
  {
    name: "exposure",
    label: "Exposure",
    asks: "the worst score of an advisory it is open to",
    view: (spot) =>
      spot.read
        ? {
            tone: spot.score >= 7 ? "deep" : spot.score > 0 ? "pending" : "done",
            text: spot.score ? spot.score.toFixed(1) : "closed",
            part: spot.score / 10,
          }
        : { tone: "rule", text: "not read", part: 0 },
    legend: [
      ["done", 0.2, "nothing open"],
      ["pending", 0.5, "open, score below 7"],
      ["deep", 1, "open, score 7 and more"],
      ["rule", 0, "not read"],
    ],
  },
  {
    name: "age",
    label: "Age",
    asks: "how old its last reading is",
    view: age,
    legend: [
      ["water", 0.25, "within the hour"],
      ["routine", 0.5, "today"],
      ["pending", 0.75, "this week"],
      ["deep", 1, "older"],
      ["rule", 0, "never"],
    ],
  },
  {
    name: "health",
    label: "Health",
    asks: "what it says of itself, and what will get in the way",
    view: health,
    legend: [
      ["done", 0.25, "well"],
      ["pending", 0.6, "something will get in the way"],
      ["deep", 1, "critical, or something vanished"],
      ["rule", 0, "not told"],
    ],
  },
  {
    name: "groups",
    label: "Groups",
    asks: "which servers serve together",
    view: (spot) =>
      spot.group
        ? { tone: GROUP_TONES[hash(spot.group) % GROUP_TONES.length] ?? "water", text: spot.group, part: 0.5 }
        : { tone: "rule", text: "in none", part: 0 },
    legend: [],
  },
  {
    name: "reach",
    label: "Reach",
    asks: "how a payload gets to it",
    view: (spot) => REACH[spot.reach] ?? { tone: "rule", text: spot.reach, part: 0 },
    legend: [
      ["water", 1, "fetches over HTTPS"],
      ["routine", 0.7, "is pushed"],
      ["pending", 0.4, "plain HTTP, or itself first"],
      ["deep", 1, "no way"],
      ["rule", 0, "not known"],
    ],
  },
];

/** The lens of a name; the waterline for a name that is none. */
export const lensOf = (name: string | null): Lens =>
  LENSES.find((lens) => lens.name === name) ?? (LENSES[0] as Lens);
