// What the record asks for.
import { keepPreviousData, queryOptions } from "@tanstack/react-query";

import { api, take, takePage } from "../api/client";

/** The audit trail, narrowed, before an entry. */
export const audit = (asked: Record<string, string>, before: number | null) =>
  queryOptions({
    queryKey: ["audit", asked, before],
    placeholderData: keepPreviousData,
    queryFn: () =>
      take(api.GET("/api/v1/audit", { params: { query: { ...asked, ...(before ? { before } : {}) } } })),
  });
/** The record of one run. */
export const record = (id: number) =>
  queryOptions({
    queryKey: ["record", id],
    queryFn: () => take(api.GET("/api/v1/runs/{id}/record", { params: { path: { id } } })),
  });
/** Drift, closed exposures and failures over months. */
export const months = queryOptions({ queryKey: ["months"], queryFn: () => take(api.GET("/api/v1/months")) });
/** Sheets and runs, newest first, so many. */
export const runsPage = (limit: number) =>
  queryOptions({
    queryKey: ["runs", limit],
    placeholderData: keepPreviousData,
    queryFn: () => takePage(api.GET("/api/v1/runs", { params: { query: { limit } } })),
  });
