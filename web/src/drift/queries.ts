// What Drift asks for.
import { keepPreviousData, queryOptions } from "@tanstack/react-query";

import { api, take } from "../api/client";

export const line = (product: string) =>
  queryOptions({
    queryKey: ["line", product],
    queryFn: () => take(api.GET("/api/v1/products/{product}/line", { params: { path: { product } } })),
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
