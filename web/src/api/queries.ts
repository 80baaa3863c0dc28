import { QueryClient, queryOptions } from "@tanstack/react-query";

import { api, take } from "./client";

export const client = new QueryClient({
  defaultOptions: { queries: { staleTime: 30_000, refetchOnWindowFocus: false, retry: 1 } },
});

export const site = queryOptions({ queryKey: ["site"], queryFn: () => take(api.GET("/api/v1/site")) });
export const work = queryOptions({ queryKey: ["work"], queryFn: () => take(api.GET("/api/v1/work")) });
export const servers = queryOptions({ queryKey: ["servers"], queryFn: () => take(api.GET("/api/v1/servers")) });
export const server = (name: string) =>
  queryOptions({ queryKey: ["server", name], queryFn: () => take(api.GET("/api/v1/servers/{name}", { params: { path: { name } } })) });
export const baseline = queryOptions({ queryKey: ["baseline"], queryFn: () => take(api.GET("/api/v1/baseline")) });
export const line = (product: string) =>
  queryOptions({ queryKey: ["line", product], queryFn: () => take(api.GET("/api/v1/products/{product}/line", { params: { path: { product } } })) });
export const packing = (names: string[]) =>
  queryOptions({ queryKey: ["packing", ...names], queryFn: () => take(api.POST("/api/v1/packing", { body: { servers: names } })) });
export const repositories = queryOptions({ queryKey: ["repositories"], queryFn: () => take(api.GET("/api/v1/repositories")) });
export const runs = queryOptions({ queryKey: ["runs"], queryFn: () => take(api.GET("/api/v1/runs")) });
export const run = (id: number) =>
  queryOptions({ queryKey: ["run", id], queryFn: () => take(api.GET("/api/v1/runs/{id}", { params: { path: { id } } })) });
export const record = (id: number) =>
  queryOptions({ queryKey: ["record", id], queryFn: () => take(api.GET("/api/v1/runs/{id}/record", { params: { path: { id } } })) });
export const tape = (id: number, name: string | null) =>
  queryOptions({
    queryKey: ["tape", id, name],
    queryFn: () => take(api.GET("/api/v1/runs/{id}/tape", { params: { path: { id }, query: name ? { server: name } : {} } })),
  });

/** Which answers an event makes stale. */
export const STALE: Record<string, string[]> = {
  work: ["work", "site"],
  readings: ["servers", "server", "site", "baseline", "line", "packing"],
  catalogs: ["servers", "server", "site", "baseline", "line", "packing"],
  repositories: ["repositories", "site", "run"],
  runs: ["runs", "run", "record", "tape", "site", "servers"],
};
