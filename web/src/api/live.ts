import { useEffect, useState } from "react";

import type { Forecast, Me, Run, Site } from "./client";
import { lately, type Step, type Told, withTold } from "./lanes";
import { hear, type Heard } from "./line";
import { client, me, site } from "./queries";
import { stream } from "./stream";
import stale from "./stale.json";

/** Which answers an event makes another. What the page is given by itself is not among them. */
const STALE: Record<string, string[] | undefined> = stale;

interface Event extends Step {
  topic: string;
  id?: number;
}

/** What every page has, and is given when it is another. */
const FRAME = ["site", "work", "calls"];
const BATCH_MS = 250;
/** All open pages ask again after the same event: each waits by chance up to so long for each page there is. */
const SPREAD_MS = 20;
/** While the stream is down, the frame's answers are asked for so often. */
const DOWN_MS = 5_000;

const spread = (): number =>
  Math.random() * SPREAD_MS * (client.getQueryData<Site>(site.queryKey)?.watching ?? 0);

/** Put what was told of a run into its answer: no question needed. */
function tell(run: number, told: Told): void {
  lately.add(run, told);
  client.setQueryData<Run>(["run", run], (row) => row && withTold(row, told));
}

/** A run under way comes by itself; its draft, as somebody else has changed it, does not. */
const comesByItself = (id: number | undefined): boolean =>
  client.getQueryData<Run>(["run", id])?.state === "running";

/** An answer that every page has, given; one that is under way was made before it. */
async function give(key: string, body: unknown): Promise<void> {
  if (stream.give(key, body)) return;
  await client.cancelQueries({ queryKey: [key], exact: true });
  client.setQueryData([key], body);
}

class Renewal {
  private keys = new Set<string>();
  private timer: number | undefined;
  private busy = false;

  /** Ask again for these, a moment later, together with what else is named until then. */
  ask(keys: readonly string[]): void {
    for (const key of keys) this.keys.add(key);
    if (this.keys.size) this.timer ??= window.setTimeout(() => void this.flush(), BATCH_MS + spread());
  }

  end(): void {
    window.clearTimeout(this.timer);
  }

  /** What takes long to fetch is fetched less often: never a second time before the first has come. */
  private async flush(): Promise<void> {
    this.timer = undefined;
    if (this.busy) {
      this.timer = window.setTimeout(() => void this.flush(), BATCH_MS);
      return;
    }
    this.busy = true;
    const keys = [...this.keys];
    this.keys.clear();
    await Promise.all(keys.map((key) => client.invalidateQueries({ queryKey: [key] })));
    this.busy = false;
  }
}

/** From where this page listens: all that it asks, it asks after that. */
const since = (): number => client.getQueryData<Me>(me.queryKey)?.event ?? 0;

function follow(setUp: (up: boolean) => void): () => void {
  const renewal = new Renewal();
  let down: number | undefined, all: number | undefined;
  const change = (told: Event, id: number) => {
    if (told.topic === "step") return tell(told.run, { event: id, step: told });
    const keys = STALE[told.topic] ?? [];
    renewal.ask(told.topic === "runs" && comesByItself(told.id) ? keys.filter((key) => key !== "run") : keys);
  };
  const begun = ({ missed, given }: { missed: number | null; given: string[] }) => {
    stream.begin(given);
    if (missed === null) return;
    renewal.ask(FRAME.filter((key) => !given.includes(key)));
    lately.missed(missed);
    const runs = client.getQueriesData<Run>({ queryKey: ["run"] });
    if (runs.some(([, run]) => run && lately.isOld(run))) renewal.ask(["run"]);
  };
  const gap = () => {
    all ??= window.setTimeout(() => {
      all = undefined;
      void client.invalidateQueries();
    }, spread());
  };
  const heard: Heard = {
    change,
    begun,
    gap,
    lanes: (part: Run) => tell(part.id, { event: part.event, part }),
    foretold: ({ run, forecast }: { run: number; forecast: Forecast }) =>
      client.setQueriesData<Forecast>(
        { queryKey: ["forecast", run, "running"] },
        (known) => known && forecast,
      ),
    stale: () => renewal.ask(["run"]),
  };
  for (const key of FRAME) heard[key] = (body: unknown) => void give(key, body);
  const leave = hear(since(), heard, (up) => {
    setUp(up);
    if (!up) down ??= window.setInterval(() => renewal.ask(FRAME), DOWN_MS);
    else down = void window.clearInterval(down);
  });
  return () => {
    leave();
    renewal.end();
    window.clearTimeout(all);
    window.clearInterval(down);
  };
}

/** Follow the server's events; the browser resumes by the last id it saw. Returns whether the line is up. */
export function useLive(): boolean {
  const [up, setUp] = useState(true);
  useEffect(() => follow(setUp), []);
  return up;
}
