// What Drift asks for.
import { keepPreviousData, queryOptions } from "@tanstack/react-query";

import { api, take } from "../api/client";
import { asKept } from "../shell/kept";

/** The releases of one product in order, with who is at which. */
export const line = (product: string) =>
  queryOptions({
    queryKey: ["line", product],
    queryFn: () => take(api.GET("/api/v1/products/{product}/line", { params: { path: { product } } })),
  });
/** By what the view is narrowed, as it stands in the address. */
export type Filters = Record<string, string>;

/** Filters that the server can follow: a selection of many is kept there first. */
const followed = async (filters: Filters): Promise<Filters> =>
  filters.servers ? { ...filters, servers: await asKept(filters.servers) } : filters;

/** The fleet folded by state, narrowed, so many folds. */
export const drift = (filters: Filters, limit: number) =>
  queryOptions({
    queryKey: ["drift", filters, limit],
    placeholderData: keepPreviousData,
    queryFn: async () =>
      take(api.GET("/api/v1/drift", { params: { query: { ...(await followed(filters)), limit } } })),
  });
/** What would be sent on from a narrowed view, and what it costs. */
export const review = (filters: Filters) =>
  queryOptions({
    queryKey: ["review", filters],
    placeholderData: keepPreviousData,
    queryFn: async () => take(api.GET("/api/v1/review", { params: { query: await followed(filters) } })),
  });
