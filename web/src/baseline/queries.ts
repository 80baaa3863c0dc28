// What the baseline asks for.
import { keepPreviousData, queryOptions } from "@tanstack/react-query";

import { api, take, type Follow } from "../api/client";

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
