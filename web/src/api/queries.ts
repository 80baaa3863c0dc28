import { QueryClient, queryOptions } from "@tanstack/react-query";

import { readSpots } from "../floor/spots";
import { api, type Server, take } from "./client";

export const client = new QueryClient({
  defaultOptions: { queries: { staleTime: 30_000, refetchOnWindowFocus: false, retry: 1 } },
});

export const site = queryOptions({ queryKey: ["site"], queryFn: () => take(api.GET("/api/v1/site")) });
export const work = queryOptions({ queryKey: ["work"], queryFn: () => take(api.GET("/api/v1/work")) });
const PAGE = 1000;

/** Every server with its cells, page after page. */
async function allServers(): Promise<Server[]> {
  const found: Server[] = [];
  for (;;) {
    const page = await take(api.GET("/api/v1/servers", { params: { query: { limit: PAGE, offset: found.length } } }));
    found.push(...page.servers);
    if (found.length >= page.total || page.servers.length === 0) return found;
  }
}

export const servers = queryOptions({ queryKey: ["servers"], queryFn: allServers });
export const named = (names: string[]) =>
  queryOptions({ queryKey: ["servers", ...names], queryFn: async () => (await take(api.GET("/api/v1/servers", { params: { query: { servers: names.join(","), limit: PAGE } } }))).servers });
export const floor = queryOptions({ queryKey: ["floor"], queryFn: async () => readSpots(await take(api.GET("/api/v1/floor"))) });
export const lost = queryOptions({ queryKey: ["lost"], queryFn: () => take(api.GET("/api/v1/lost")) });
export const search = (id: number) =>
  queryOptions({ queryKey: ["search", id], queryFn: () => take(api.GET("/api/v1/searches/{id}", { params: { path: { id } } })) });
export const readings = (name: string) =>
  queryOptions({ queryKey: ["server", name, "readings"], queryFn: () => take(api.GET("/api/v1/servers/{name}/readings", { params: { path: { name } } })) });
export const changes = (name: string, before: number | null, after: number | null) =>
  queryOptions({
    queryKey: ["server", name, "changes", before, after],
    queryFn: () => take(api.GET("/api/v1/servers/{name}/changes", { params: { path: { name }, query: { ...(before ? { before } : {}), ...(after ? { after } : {}) } } })),
  });
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
  searches: ["search"],
  readings: ["floor", "lost", "servers", "server", "site", "baseline", "line", "packing"],
  catalogs: ["floor", "servers", "server", "site", "baseline", "line", "packing"],
  repositories: ["repositories", "site", "run"],
  runs: ["runs", "run", "record", "tape", "site", "servers", "floor"],
};
