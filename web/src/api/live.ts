import { useEffect, useState } from "react";

import type { Run } from "./client";
import { client, STALE } from "./queries";

interface Told {
  topic: string;
  run?: number;
  server?: string;
  state?: string;
  detail?: string;
  percent?: number | null;
}

const BATCH_MS = 250;

/** A step of a server is put into the run's answer as it is: no question needed. */
function applyStep(told: Told): void {
  client.setQueryData<Run>(
    ["run", told.run],
    (run) =>
      run && {
        ...run,
        servers: run.servers.map((s) =>
          s.server === told.server
            ? { ...s, state: told.state ?? s.state, detail: told.detail ?? "", percent: told.percent ?? null }
            : s,
        ),
      },
  );
}

/** Follow the server's events; the browser resumes by the last id it saw. Returns whether the line is up. */
export function useLive(): boolean {
  const [up, setUp] = useState(true);
  useEffect(() => {
    const source = new EventSource("/api/v1/events");
    const stale = new Set<string>();
    let timer: number | undefined;
    let busy = false;
    // What takes long to fetch is fetched less often: never a second time before the first has come.
    const flush = async () => {
      timer = undefined;
      if (busy) {
        timer = window.setTimeout(() => void flush(), BATCH_MS);
        return;
      }
      busy = true;
      const keys = [...stale];
      stale.clear();
      await Promise.all(keys.map((key) => client.invalidateQueries({ queryKey: [key] })));
      busy = false;
    };
    source.addEventListener("change", (event: MessageEvent<string>) => {
      const told = JSON.parse(event.data) as Told;
      if (told.topic === "step") return applyStep(told);
      for (const key of STALE[told.topic] ?? []) stale.add(key);
      timer ??= window.setTimeout(() => void flush(), BATCH_MS);
    });
    source.addEventListener("gap", () => void client.invalidateQueries());
    source.addEventListener("open", () => {
      setUp(true);
      void client.invalidateQueries();
    });
    source.addEventListener("error", () => setUp(false));
    return () => {
      window.clearTimeout(timer);
      source.close();
    };
  }, []);
  return up;
}
