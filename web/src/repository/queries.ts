// What the repositories ask for.
import { keepPreviousData, queryOptions } from "@tanstack/react-query";

import { api, take, type Trim } from "../api/client";

/** What is to be packed: for whom, by which revision, on which media, without what. */
export interface PackingRequest {
  servers: string[];
  trims: Trim[];
  capacity: number | null;
  revision: number | null;
}
/** What would be packed. */
export const packing = (wanted: PackingRequest) =>
  queryOptions({
    queryKey: ["packing", wanted],
    placeholderData: keepPreviousData,
    retry: false,
    queryFn: () => take(api.POST("/api/v1/packing", { body: wanted })),
  });
/** One repository with its lines. */
export const repository = (id: number) =>
  queryOptions({
    queryKey: ["repositories", id],
    queryFn: () => take(api.GET("/api/v1/repositories/{id}", { params: { path: { id } } })),
  });
/** What a repository lacks by today. */
export const stale = (id: number) =>
  queryOptions({
    queryKey: ["stale", id],
    queryFn: () => take(api.GET("/api/v1/repositories/{id}/stale", { params: { path: { id } } })),
  });
/** Which controllers can fetch from this site. */
export const reaching = (id: number) =>
  queryOptions({
    queryKey: ["reaching", id],
    queryFn: () => take(api.GET("/api/v1/repositories/{id}/reach", { params: { path: { id } } })),
  });
/** What controllers have fetched from it. */
export const fetches = (id: number) =>
  queryOptions({
    queryKey: ["fetches", id],
    queryFn: () => take(api.GET("/api/v1/repositories/{id}/fetches", { params: { path: { id } } })),
  });
/** Who has signed it, and who could. */
export const signatures = (id: number) =>
  queryOptions({
    queryKey: ["repositories", id, "signatures"],
    retry: false,
    queryFn: () => take(api.GET("/api/v1/repositories/{id}/signatures", { params: { path: { id } } })),
  });
/** What differs between two repositories. */
export const contents = (one: number, other: number) =>
  queryOptions({
    queryKey: ["repositories", "compare", one, other],
    queryFn: () => take(api.GET("/api/v1/repositories/compare", { params: { query: { one, other } } })),
  });
/** Carriers that were carried in or refused. */
export const arrivals = queryOptions({
  queryKey: ["repositories", "arrivals"],
  queryFn: () => take(api.GET("/api/v1/arrivals")),
});
/** The site's own seal and who holds it. */
export const seal = queryOptions({
  queryKey: ["repositories", "seal"],
  queryFn: () => take(api.GET("/api/v1/seal")),
});
/** Seals from elsewhere that are accepted here. */
export const trustedRoots = queryOptions({
  queryKey: ["repositories", "roots"],
  queryFn: () => take(api.GET("/api/v1/trusted-roots")),
});
/** Where payloads are fetched from. */
export const places = queryOptions({
  queryKey: ["repositories", "places"],
  queryFn: () => take(api.GET("/api/v1/fetch-places")),
});
/** The store: how much it holds and how much is needed. */
export const store = queryOptions({
  queryKey: ["repositories", "store"],
  queryFn: () => take(api.GET("/api/v1/store")),
});
