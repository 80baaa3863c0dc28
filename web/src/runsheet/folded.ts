// What the tables below the timetable fold: servers with equal plans, and those that need nobody's eyes.
import type { RunServer } from "../api/client";

/** Servers for which the same is to be done, in the order of the sheet. */
export function foldPlans(servers: RunServer[]): RunServer[][] {
  const found = new Map<string, RunServer[]>();
  for (const lane of servers) {
    const steps = lane.rounds.map((round) => [
      round.writes.map((w) => [w.slot, w.source, w.to]),
      round.reset,
    ]);
    const key = JSON.stringify([steps, lane.overrides, lane.stranded]);
    found.set(key, [...(found.get(key) ?? []), lane]);
  }
  return [...found.values()];
}

export const STANDS = ["needs a person", "under way", "waiting", "done"] as const;
export type Stand = (typeof STANDS)[number];

/** How a server of a started run stands. */
export function standOf(lane: RunServer): Stand {
  if (lane.ended) return lane.ended === "failed" ? "needs a person" : "done";
  if (lane.question) return "needs a person";
  return lane.state === "waiting" ? "waiting" : "under way";
}

/** The servers by how they stand, what needs a person first; none of what is empty. */
export function foldStates(servers: RunServer[]): { stand: Stand; lanes: RunServer[] }[] {
  const by = STANDS.map((stand) => ({ stand, lanes: servers.filter((lane) => standOf(lane) === stand) }));
  return by.filter(({ lanes }) => lanes.length > 0);
}
