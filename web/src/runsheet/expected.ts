// The forecast of a run in words.
import type { Forecast, Run } from "../api/client";
import { duration } from "../shell/format";

/** What holds the end or delays most, and what one place more would change. */
export function tellDelay(delay: NonNullable<Forecast["delay"]>): string {
  const waits = `servers wait ${duration(delay.server_minutes * 60)} in all`;
  const gained = delay.with_more_seconds;
  const remedy =
    gained === null
      ? ""
      : gained < 60
        ? " One place more would not end it earlier."
        : ` One place more would end it ${duration(gained)} earlier.`;
  return `${gained ? "What holds the end" : "What delays most"}: ${tellLimit(delay.limit)}; ${waits}.${remedy}`;
}

function tellLimit(limit: string): string {
  if (limit === "servers at once") return "how many servers are worked on at once";
  if (limit === "the link") return "how many transfers the link takes at once";
  return `how many of ${limit.replace(/^group /, "")} may be away`;
}

/** How many servers will probably need somebody to look after them. */
export function tellPersons(expected: number): string {
  if (expected < 0.05) return "Hardly any server is to be expected to need a person.";
  if (expected < 1)
    return `About one in ${Math.max(2, Math.round(1 / expected))} such runs has a server that needs a person.`;
  return `About ${Math.round(expected)} of its servers will probably need a person.`;
}

/** Whether each server of a draft is left over: nothing of it would be done. */
export const nobodyFits = (run: Run): boolean =>
  run.state === "draft" && run.servers.length > 0 && run.servers.every((lane) => !lane.plan.length);
