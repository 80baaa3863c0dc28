import type { Effect } from "../api/client";

/** One line of the effect: before, after, and what that means. */
export interface EffectRow {
  label: string;
  after: string;
  change: string;
  worse: boolean;
}

const signed = (n: number, spell: (n: number) => string): string =>
  n === 0 ? "" : `${n > 0 ? "+" : "−"}${spell(Math.abs(n))}`;

/** The lines of an effect: what is there afterwards, and by how much it differs. More to pay or to fear is worse. */
export function effectRows(effect: Effect, size: (bytes: number) => string): EffectRow[] {
  const { before, after } = effect;
  const plain = (
    label: string,
    key: "off" | "exposed" | "held" | "outages" | "power_cycles" | "restarts" | "stranded",
    worseUp = false,
  ): EffectRow => ({
    label,
    after: String(after[key]),
    change: signed(after[key] - before[key], String),
    worse: worseUp && after[key] > before[key],
  });
  const gained = effect.fixes_gained.length - effect.fixes_lost.length;
  return [
    plain("components off the baseline", "off"),
    plain("of them missing a security fix", "exposed"),
    plain("components held", "held"),
    {
      label: "advisories it closes",
      after: String(after.fixes.length),
      change: signed(gained, String),
      worse: gained < 0,
    },
    plain("reboots over the fleet", "outages"),
    plain("controller restarts", "restarts"),
    {
      label: "to carry",
      after: size(after.bytes),
      change: signed(after.bytes - before.bytes, size),
      worse: false,
    },
    plain("servers without a way", "stranded", true),
  ];
}
