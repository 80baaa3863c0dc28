// How a run under way fills in: what is told of it goes into the answer that is on the page already.
import type { Run } from "./client";

/** The present step of one server, as an event tells it. */
export interface Step {
  run: number;
  server: string;
  state: string;
  detail: string;
  percent: number | null;
}

/** Something that was told of a run after `event`: the run with the lanes that are others, or one server's step. */
export type Told = { event: number; part: Run } | { event: number; step: Step };

/** A run with what was told of it; what it has in it already changes nothing. */
export function withTold(run: Run, told: Told): Run {
  if (told.event <= run.event) return run;
  if ("step" in told) {
    const { server, state, detail, percent } = told.step;
    return {
      ...run,
      servers: run.servers.map((s) => (s.server === server ? { ...s, state, detail, percent } : s)),
    };
  }
  const fresh = new Map(told.part.servers.map((lane) => [lane.server, lane]));
  return { ...told.part, servers: run.servers.map((lane) => fresh.get(lane.server) ?? lane) };
}

const MOST_KEPT = 400;

/**
 * What was told of runs lately. An answer that was made before it, and comes after it, would put back what is over:
 * it is brought up to date by this.
 */
export class Lately {
  private told: { run: number; told: Told }[] = [];
  private oldest = 0;

  /** Keep it for answers that are under way. */
  add(run: number, told: Told): void {
    this.told.push({ run, told });
    if (this.told.length > MOST_KEPT) this.told.shift();
  }

  /** Events up to here were told again, without what followed from them: no answer from before them will do. */
  missed(event: number): void {
    this.oldest = event;
  }

  /** Whether an answer was made before what was missed. */
  isOld(run: Run): boolean {
    return run.event < this.oldest;
  }

  /** A run with all that was told of it since. */
  bring(run: Run): Run {
    return this.told.filter((one) => one.run === run.id).reduce((row, one) => withTold(row, one.told), run);
  }
}

/** What was told to this page. */
export const lately = new Lately();
