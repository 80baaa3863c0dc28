import { keepPreviousData, MutationCache, QueryClient, queryOptions } from "@tanstack/react-query";

import { api, setToken, take, takePage } from "./client";
import { tellRefused } from "./refused";
import { stream } from "./stream";

/** The one cache of what was asked of the server. */
export const client = new QueryClient({
  mutationCache: new MutationCache({
    onError: (error, _variables, _context, mutation) => {
      if (mutation.meta?.aloud) tellRefused(error.message);
    },
  }),
  defaultOptions: { queries: { staleTime: 30_000, refetchOnWindowFocus: false, retry: 1 } },
});

async function whoAmI() {
  const found = await take(api.GET("/api/v1/me"));
  setToken(found.csrf);
  return found;
}

/** Who is signed in, and what they may do. */
export const me = queryOptions({ queryKey: ["me"], queryFn: whoAmI, staleTime: Infinity });
/** The live facts of the places, the clock and the next window. */
export const site = queryOptions({
  queryKey: ["site"],
  queryFn: () => stream.first("site", () => take(api.GET("/api/v1/site"))),
});
/** What is under way, and what ended lately. */
export const work = queryOptions({
  queryKey: ["work"],
  queryFn: () => stream.first("work", () => take(api.GET("/api/v1/work"))),
});
/** All work, newest first, so many. */
export const workPage = (limit: number) =>
  queryOptions({
    queryKey: ["work-page", limit],
    placeholderData: keepPreviousData,
    queryFn: () => takePage(api.GET("/api/v1/work", { params: { query: { limit } } })),
  });
/** The baseline that holds, with its lines and what covers each model. */
export const baseline = queryOptions({
  queryKey: ["baseline"],
  queryFn: () => take(api.GET("/api/v1/baseline")),
});
/** The revisions of the baseline. */
export const revisions = queryOptions({
  queryKey: ["revisions"],
  queryFn: () => take(api.GET("/api/v1/baseline/revisions")),
});
/** Advisories, and who is affected by each. */
export const advisories = queryOptions({
  queryKey: ["advisories"],
  queryFn: () => take(api.GET("/api/v1/advisories")),
});
/** The repositories of this site. */
export const repositories = queryOptions({
  queryKey: ["repositories"],
  queryFn: () => take(api.GET("/api/v1/repositories")),
});
/** Groups, and how many of each may be away. */
export const groups = queryOptions({ queryKey: ["groups"], queryFn: () => take(api.GET("/api/v1/groups")) });
/** The house's windows. */
export const windows = queryOptions({
  queryKey: ["windows"],
  queryFn: () => take(api.GET("/api/v1/windows")),
});
/** The latest sheets and runs. */
export const runs = queryOptions({ queryKey: ["runs"], queryFn: () => take(api.GET("/api/v1/runs")) });
