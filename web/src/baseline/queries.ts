// What the baseline asks for.
import { keepPreviousData, queryOptions } from "@tanstack/react-query";

import { api, take, type Follow } from "../api/client";

/** One revision of the baseline as it was made. */
export const revision = (number: number) =>
  queryOptions({
    queryKey: ["revision", number],
    queryFn: () => take(api.GET("/api/v1/baseline/revisions/{number}", { params: { path: { number } } })),
  });
/** What differs between two revisions. */
export const compared = (one: number, other: number) =>
  queryOptions({
    queryKey: ["compared", one, other],
    queryFn: () => take(api.GET("/api/v1/baseline/compare", { params: { query: { one, other } } })),
  });
/** What a draft would mean for this fleet; not asked while there is none. */
export const effect = (wanted: { rules: unknown; follows: Follow[] }, asked: boolean) =>
  queryOptions({
    queryKey: ["effect", wanted],
    enabled: asked,
    placeholderData: keepPreviousData,
    retry: false,
    queryFn: () => take(api.POST("/api/v1/baseline/effect", { body: wanted })),
  });
/** Where catalogs come from, and how each answered. */
export const sources = queryOptions({
  queryKey: ["sources"],
  queryFn: () => take(api.GET("/api/v1/catalog-sources")),
});
/** The keys by which catalogs are accepted. */
export const keys = queryOptions({
  queryKey: ["sources", "keys"],
  queryFn: () => take(api.GET("/api/v1/trusted-keys")),
});
