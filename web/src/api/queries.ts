import { keepPreviousData, QueryClient, queryOptions } from "@tanstack/react-query";

import { readSpots } from "../floor/spots";
import { api, type Follow, type Server, setToken, take, takePage, type Trim } from "./client";

export const client = new QueryClient({
  defaultOptions: { queries: { staleTime: 30_000, refetchOnWindowFocus: false, retry: 1 } },
});

async function whoAmI() {
  const found = await take(api.GET("/api/v1/me"));
  setToken(found.csrf);
  return found;
}

export const me = queryOptions({ queryKey: ["me"], queryFn: whoAmI, staleTime: Infinity });
export const site = queryOptions({ queryKey: ["site"], queryFn: () => take(api.GET("/api/v1/site")) });
export const work = queryOptions({ queryKey: ["work"], queryFn: () => take(api.GET("/api/v1/work")) });
export const workPage = (limit: number) =>
  queryOptions({
    queryKey: ["work", limit],
    placeholderData: keepPreviousData,
    queryFn: () => takePage(api.GET("/api/v1/work", { params: { query: { limit } } })),
  });
const PAGE = 1000;

/** Every server with its cells, page after page. */
async function allServers(): Promise<Server[]> {
  const found: Server[] = [];
  for (;;) {
    const page = await take(
      api.GET("/api/v1/servers", { params: { query: { limit: PAGE, offset: found.length } } }),
    );
    found.push(...page.servers);
    if (found.length >= page.total || page.servers.length === 0) return found;
  }
}

export const servers = queryOptions({ queryKey: ["servers"], queryFn: allServers });
export const named = (names: string[]) =>
  queryOptions({
    queryKey: ["servers", ...names],
    queryFn: async () =>
      (
        await take(
          api.GET("/api/v1/servers", { params: { query: { servers: names.join(","), limit: PAGE } } }),
        )
      ).servers,
  });
export const floor = queryOptions({
  queryKey: ["floor"],
  queryFn: async () => readSpots(await take(api.GET("/api/v1/floor"))),
});
export const groups = queryOptions({ queryKey: ["groups"], queryFn: () => take(api.GET("/api/v1/groups")) });
export const away = queryOptions({
  queryKey: ["groups", "away"],
  queryFn: () => take(api.GET("/api/v1/away")),
});
export const lost = queryOptions({ queryKey: ["lost"], queryFn: () => take(api.GET("/api/v1/lost")) });
export const search = (id: number) =>
  queryOptions({
    queryKey: ["search", id],
    queryFn: () => take(api.GET("/api/v1/searches/{id}", { params: { path: { id } } })),
  });
export const readings = (name: string, limit: number) =>
  queryOptions({
    queryKey: ["server", name, "readings", limit],
    queryFn: () =>
      takePage(api.GET("/api/v1/servers/{name}/readings", { params: { path: { name }, query: { limit } } })),
  });
export const changes = (name: string, before: number | null, after: number | null) =>
  queryOptions({
    queryKey: ["server", name, "changes", before, after],
    queryFn: () =>
      take(
        api.GET("/api/v1/servers/{name}/changes", {
          params: { path: { name }, query: { ...(before ? { before } : {}), ...(after ? { after } : {}) } },
        }),
      ),
  });
export const server = (name: string) =>
  queryOptions({
    queryKey: ["server", name],
    queryFn: () => take(api.GET("/api/v1/servers/{name}", { params: { path: { name } } })),
  });
export const baseline = queryOptions({
  queryKey: ["baseline"],
  queryFn: () => take(api.GET("/api/v1/baseline")),
});
export const line = (product: string) =>
  queryOptions({
    queryKey: ["line", product],
    queryFn: () => take(api.GET("/api/v1/products/{product}/line", { params: { path: { product } } })),
  });
export const revisions = queryOptions({
  queryKey: ["revisions"],
  queryFn: () => take(api.GET("/api/v1/baseline/revisions")),
});
export const revision = (number: number) =>
  queryOptions({
    queryKey: ["revision", number],
    queryFn: () => take(api.GET("/api/v1/baseline/revisions/{number}", { params: { path: { number } } })),
  });
export const compared = (one: number, other: number) =>
  queryOptions({
    queryKey: ["compared", one, other],
    queryFn: () => take(api.GET("/api/v1/baseline/compare", { params: { query: { one, other } } })),
  });
export const effect = (wanted: { rules: unknown; follows: Follow[] }, asked: boolean) =>
  queryOptions({
    queryKey: ["effect", wanted],
    enabled: asked,
    placeholderData: keepPreviousData,
    retry: false,
    queryFn: () => take(api.POST("/api/v1/baseline/effect", { body: wanted })),
  });
export const sources = queryOptions({
  queryKey: ["sources"],
  queryFn: () => take(api.GET("/api/v1/catalog-sources")),
});
export const keys = queryOptions({
  queryKey: ["sources", "keys"],
  queryFn: () => take(api.GET("/api/v1/trusted-keys")),
});
export const advisories = queryOptions({
  queryKey: ["advisories"],
  queryFn: () => take(api.GET("/api/v1/advisories")),
});
export type Filters = Record<string, string>;
export const drift = (filters: Filters, limit: number) =>
  queryOptions({
    queryKey: ["drift", filters, limit],
    placeholderData: keepPreviousData,
    queryFn: () => take(api.GET("/api/v1/drift", { params: { query: { ...filters, limit } } })),
  });
export const review = (filters: Filters) =>
  queryOptions({
    queryKey: ["review", filters],
    placeholderData: keepPreviousData,
    queryFn: () => take(api.GET("/api/v1/review", { params: { query: filters } })),
  });
export interface PackingRequest {
  servers: string[];
  trims: Trim[];
  capacity: number | null;
  revision: number | null;
}
export const packing = (wanted: PackingRequest) =>
  queryOptions({
    queryKey: ["packing", wanted],
    placeholderData: keepPreviousData,
    retry: false,
    queryFn: () => take(api.POST("/api/v1/packing", { body: wanted })),
  });
export const repositories = queryOptions({
  queryKey: ["repositories"],
  queryFn: () => take(api.GET("/api/v1/repositories")),
});
export const repository = (id: number) =>
  queryOptions({
    queryKey: ["repositories", id],
    queryFn: () => take(api.GET("/api/v1/repositories/{id}", { params: { path: { id } } })),
  });
export const stale = (id: number) =>
  queryOptions({
    queryKey: ["stale", id],
    queryFn: () => take(api.GET("/api/v1/repositories/{id}/stale", { params: { path: { id } } })),
  });
export const reaching = (id: number) =>
  queryOptions({
    queryKey: ["reaching", id],
    queryFn: () => take(api.GET("/api/v1/repositories/{id}/reach", { params: { path: { id } } })),
  });
export const fetches = (id: number) =>
  queryOptions({
    queryKey: ["fetches", id],
    queryFn: () => take(api.GET("/api/v1/repositories/{id}/fetches", { params: { path: { id } } })),
  });
export const signatures = (id: number) =>
  queryOptions({
    queryKey: ["repositories", id, "signatures"],
    retry: false,
    queryFn: () => take(api.GET("/api/v1/repositories/{id}/signatures", { params: { path: { id } } })),
  });
export const contents = (one: number, other: number) =>
  queryOptions({
    queryKey: ["repositories", "compare", one, other],
    queryFn: () => take(api.GET("/api/v1/repositories/compare", { params: { query: { one, other } } })),
  });
export const arrivals = queryOptions({
  queryKey: ["repositories", "arrivals"],
  queryFn: () => take(api.GET("/api/v1/arrivals")),
});
export const seal = queryOptions({
  queryKey: ["repositories", "seal"],
  queryFn: () => take(api.GET("/api/v1/seal")),
});
export const trustedRoots = queryOptions({
  queryKey: ["repositories", "roots"],
  queryFn: () => take(api.GET("/api/v1/trusted-roots")),
});
export const places = queryOptions({
  queryKey: ["repositories", "places"],
  queryFn: () => take(api.GET("/api/v1/fetch-places")),
});
export const store = queryOptions({
  queryKey: ["repositories", "store"],
  queryFn: () => take(api.GET("/api/v1/store")),
});
export const waysBack = (server: string, slot: string) =>
  queryOptions({
    queryKey: ["ways-back", server, slot],
    retry: false,
    queryFn: () => take(api.GET("/api/v1/ways-back", { params: { query: { server, slot } } })),
  });
export const people = queryOptions({ queryKey: ["people"], queryFn: () => take(api.GET("/api/v1/people")) });
export const sessions = queryOptions({
  queryKey: ["people", "sessions"],
  queryFn: () => take(api.GET("/api/v1/me/sessions")),
});
export const audit = (asked: Record<string, string>, before: number | null) =>
  queryOptions({
    queryKey: ["audit", asked, before],
    placeholderData: keepPreviousData,
    queryFn: () =>
      take(api.GET("/api/v1/audit", { params: { query: { ...asked, ...(before ? { before } : {}) } } })),
  });
export const runs = queryOptions({ queryKey: ["runs"], queryFn: () => take(api.GET("/api/v1/runs")) });
export const run = (id: number) =>
  queryOptions({
    queryKey: ["run", id],
    queryFn: () => take(api.GET("/api/v1/runs/{id}", { params: { path: { id } } })),
  });
export const record = (id: number) =>
  queryOptions({
    queryKey: ["record", id],
    queryFn: () => take(api.GET("/api/v1/runs/{id}/record", { params: { path: { id } } })),
  });
export const runsPage = (limit: number) =>
  queryOptions({
    queryKey: ["runs", limit],
    placeholderData: keepPreviousData,
    queryFn: () => takePage(api.GET("/api/v1/runs", { params: { query: { limit } } })),
  });
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

const JUDGED = [
  "baseline",
  "effect",
  "compared",
  "drift",
  "review",
  "advisories",
  "line",
  "packing",
  "stale",
  "reaching",
  "ways-back",
];

/** Which answers an event makes stale. */
export const STALE: Record<string, string[]> = {
  work: ["work", "site"],
  searches: ["search"],
  readings: ["floor", "groups", "lost", "servers", "server", "site", ...JUDGED],
  catalogs: ["floor", "servers", "server", "site", "sources", ...JUDGED],
  baselines: ["floor", "servers", "server", "site", "revisions", ...JUDGED],
  sources: ["sources"],
  advisories: ["advisories", "drift"],
  "left-out": ["review", "packing"],
  repositories: ["repositories", "stale", "packing", "ways-back", "site", "run"],
  fetches: ["fetches"],
  audit: ["audit"],
  people: ["people", "me"],
  runs: ["runs", "run", "record", "tape", "site", "servers", "floor", "groups"],
};
