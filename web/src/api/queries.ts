import { keepPreviousData, QueryClient, queryOptions } from "@tanstack/react-query";

import { api, setToken, take, takePage } from "./client";

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
export const baseline = queryOptions({
  queryKey: ["baseline"],
  queryFn: () => take(api.GET("/api/v1/baseline")),
});
export const revisions = queryOptions({
  queryKey: ["revisions"],
  queryFn: () => take(api.GET("/api/v1/baseline/revisions")),
});
export const advisories = queryOptions({
  queryKey: ["advisories"],
  queryFn: () => take(api.GET("/api/v1/advisories")),
});
export const repositories = queryOptions({
  queryKey: ["repositories"],
  queryFn: () => take(api.GET("/api/v1/repositories")),
});
export const groups = queryOptions({ queryKey: ["groups"], queryFn: () => take(api.GET("/api/v1/groups")) });
export const windows = queryOptions({
  queryKey: ["windows"],
  queryFn: () => take(api.GET("/api/v1/windows")),
});
export const runs = queryOptions({ queryKey: ["runs"], queryFn: () => take(api.GET("/api/v1/runs")) });

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
  work: ["work", "site", "calls"],
  calls: ["calls"],
  searches: ["search"],
  readings: ["calls", "floor", "groups", "lost", "servers", "server", "site", ...JUDGED],
  catalogs: ["floor", "servers", "server", "site", "sources", ...JUDGED],
  baselines: ["floor", "servers", "server", "site", "revisions", ...JUDGED],
  sources: ["sources"],
  advisories: ["advisories", "drift"],
  "left-out": ["review", "packing"],
  repositories: ["repositories", "stale", "packing", "ways-back", "site", "run"],
  fetches: ["fetches"],
  audit: ["audit"],
  people: ["people", "me"],
  house: ["house", "windows", "openings", "hooks", "site", "run"],
  runs: [
    "runs",
    "checks",
    "sheet-revisions",
    "forecast",
    "run",
    "record",
    "tape",
    "calls",
    "site",
    "servers",
    "floor",
    "groups",
  ],
};
