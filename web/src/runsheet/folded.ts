// What the tables below the timetable fold: servers with equal plans, and those that need nobody's eyes.
import type { RunServer } from "../api/client";
import { foldRuns } from "../shell/format";

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

type Write = RunServer["rounds"][number]["writes"][number];

/** Writes of one version to several slots of a kind, told together: "drive-00 … -07 GX04". */
export function tellWrites(writes: Write[]): string {
  const found = new Map<string, string[]>();
  for (const { slot, to } of writes) {
    const key = `${slot.replace(/\d+$/, "")}\n${to}`;
    found.set(key, [...(found.get(key) ?? []), slot]);
  }
  return [...found].map(([key, slots]) => `${foldRuns(slots)} ${key.split("\n")[1] ?? ""}`).join(", ");
}

/** What is done to a server, round by round; why nothing is, where nothing is. */
export const tellRounds = (lane: RunServer): string =>
  lane.rounds
    .map((round) => [tellWrites(round.writes) || "nothing to write", round.reset].filter(Boolean).join(", "))
    .join("; ") || lane.detail;

/** How a server can stand, what needs a person first. */
export const STANDS = ["needs a person", "under way", "waiting", "done"] as const;
/** One of them. */
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
