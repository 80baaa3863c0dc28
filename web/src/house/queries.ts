// What the house asks for.
import { keepPreviousData, queryOptions } from "@tanstack/react-query";

import { api, take } from "../api/client";

/** What holds for every run. */
export const house = queryOptions({ queryKey: ["house"], queryFn: () => take(api.GET("/api/v1/house")) });
/** Where the house asks and tells. */
export const hooks = queryOptions({ queryKey: ["hooks"], queryFn: () => take(api.GET("/api/v1/hooks")) });
/** When windows are open between two instants. */
export const openings = (since: string, until: string) =>
  queryOptions({
    queryKey: ["openings", since, until],
    placeholderData: keepPreviousData,
    queryFn: () => take(api.GET("/api/v1/openings", { params: { query: { since, until } } })),
  });
