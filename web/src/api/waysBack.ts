// To what a component can go back: asked on the Floor and in Repository.
import { queryOptions } from "@tanstack/react-query";

import { api, take } from "./client";

/** Every older version of a component that is held somewhere, with what going back takes. */
export const waysBack = (server: string, slot: string) =>
  queryOptions({
    retry: false,
    queryKey: ["ways-back", server, slot],
    queryFn: () => take(api.GET("/api/v1/ways-back", { params: { query: { server, slot } } })),
  });
