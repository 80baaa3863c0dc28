// What Drift asks for.
import { keepPreviousData, queryOptions } from "@tanstack/react-query";

import { api, take } from "../api/client";
import { asKept } from "../shell/kept";

export const line = (product: string) =>
  queryOptions({
    queryKey: ["line", product],
    queryFn: () => take(api.GET("/api/v1/products/{product}/line", { params: { path: { product } } })),
  });
export type Filters = Record<string, string>;

/** Filters that the server can follow: a selection of many is kept there first. */
const followed = async (filters: Filters): Promise<Filters> =>
  filters.servers ? { ...filters, servers: await asKept(filters.servers) } : filters;

export const drift = (filters: Filters, limit: number) =>
  queryOptions({
    queryKey: ["drift", filters, limit],
    placeholderData: keepPreviousData,
    queryFn: async () =>
      take(api.GET("/api/v1/drift", { params: { query: { ...(await followed(filters)), limit } } })),
  });
export const review = (filters: Filters) =>
  queryOptions({
    queryKey: ["review", filters],
    placeholderData: keepPreviousData,
    queryFn: async () => take(api.GET("/api/v1/review", { params: { query: await followed(filters) } })),
  });
