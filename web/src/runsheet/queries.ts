// What the run sheet asks for.
import { keepPreviousData, queryOptions } from "@tanstack/react-query";

import { api, type Order, type Run, take, takePage } from "../api/client";
import { lately } from "../api/lanes";

const askRun = (id: number) => take(api.GET("/api/v1/runs/{id}", { params: { path: { id } } }));
/** A sheet or run with its lanes. */
export const run = (id: number) =>
  queryOptions({
    queryKey: ["run", id],
    queryFn: async () => {
      const row = await askRun(id);
      return lately.bring(lately.isOld(row) ? await askRun(id) : row);
    },
  });
/** What is to be expected of a run under way is given as it slides; it is asked anew so often, in ms, as long as it is
 * shown, so that it goes on being worked out. */
const ANEW = 60_000;
/** When it will probably be over, what delays it, what it costs. */
export const forecast = (run: Run) =>
  queryOptions({
    queryKey: ["forecast", run.id, run.state],
    enabled: run.state !== "ended",
    refetchInterval: run.state === "running" ? ANEW : false,
    queryFn: () => take(api.GET("/api/v1/runs/{id}/forecast", { params: { path: { id: run.id } } })),
  });
/** What happened, newest first: of one server, or of all. */
export const tape = (id: number, name: string | null, limit: number) =>
  queryOptions({
    queryKey: ["tape", id, name, limit],
    placeholderData: (before, query) =>
      query?.queryKey[1] === id && query.queryKey[2] === name ? before : undefined,
    queryFn: () =>
      takePage(
        api.GET("/api/v1/runs/{id}/tape", {
          params: { path: { id }, query: { limit, ...(name ? { server: name } : {}) } },
        }),
      ),
  });
/** A part of a run: a wave, a group or a server; nothing of it is the whole run. */
export interface Scope {
  wave?: string;
  group?: string;
  server?: string;
}
/** What an order would mean is asked while it is looked at: servers go on meanwhile. */
const MEANT_MS = 2_000;
/** What an order would mean, server by server. */
export const meaning = (id: number, order: Scope & { order: Order; not_before?: string }) =>
  queryOptions({
    queryKey: ["meaning", id, order],
    refetchInterval: MEANT_MS,
    placeholderData: keepPreviousData,
    queryFn: () => take(api.GET("/api/v1/runs/{id}/orders", { params: { path: { id }, query: order } })),
  });
/** To what the updates of a server could be taken back once the sheet is done. */
export const reversals = (id: number, server: string) =>
  queryOptions({
    queryKey: ["reversals", id, server],
    queryFn: () =>
      take(api.GET("/api/v1/runs/{id}/servers/{name}/ways-back", { params: { path: { id, name: server } } })),
  });
/** What a draft's checks find, by the last readings. */
export const checks = (run: Run) =>
  queryOptions({
    queryKey: ["checks", run.id, run.sheet],
    queryFn: () => take(api.GET("/api/v1/runs/{id}/sheet/checks", { params: { path: { id: run.id } } })),
  });
/** How a draft came about. */
export const revisions = (run: Run) =>
  queryOptions({
    queryKey: ["sheet-revisions", run.id, run.sheet],
    queryFn: () => take(api.GET("/api/v1/runs/{id}/sheet/revisions", { params: { path: { id: run.id } } })),
  });
/** What differs from another sheet. */
export const compared = (run: Run, other: number) =>
  queryOptions({
    queryKey: ["sheet-compared", run.id, run.sheet, other],
    enabled: other > 0,
    queryFn: () =>
      take(api.GET("/api/v1/runs/{id}/sheet/compare/{other}", { params: { path: { id: run.id, other } } })),
  });
