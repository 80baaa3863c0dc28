// What a tried change would mean, in one sentence.
import type { Tried } from "../api/client";
import { clock, count, duration, someNames } from "../shell/format";

/** "ends 01:20, 12 min earlier; nobody is left over", or the rule that forbids it. */
export function tellTried(tried: Tried): string {
  if (tried.refused) return `It can't be: ${tried.refused}.`;
  const by = Math.round(tried.sooner_seconds / 60);
  const moved =
    by === 0 ? "as now" : `${duration(Math.abs(by) * 60)} ${by > 0 ? "earlier" : "later"} than now`;
  const left = tried.left.length
    ? `${count(tried.left.length, "server")} left over: ${someNames(
        tried.left.map((l) => l.server),
        4,
      )}`
    : "nobody is left over";
  const sure = tried.sure_end ? ` (nine in ten by ${clock(new Date(tried.sure_end))})` : "";
  return `It would end ${clock(new Date(tried.end))}${sure}, ${moved}; ${left}.`;
}
