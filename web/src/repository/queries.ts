// What the repositories ask for.
import { keepPreviousData, queryOptions } from "@tanstack/react-query";

import { api, take, type Trim } from "../api/client";

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
