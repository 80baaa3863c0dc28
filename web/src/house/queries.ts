// What the house asks for.
import { keepPreviousData, queryOptions } from "@tanstack/react-query";

import { api, take } from "../api/client";

export const house = queryOptions({ queryKey: ["house"], queryFn: () => take(api.GET("/api/v1/house")) });
export const hooks = queryOptions({ queryKey: ["hooks"], queryFn: () => take(api.GET("/api/v1/hooks")) });
export const openings = (since: string, until: string) =>
  queryOptions({
    queryKey: ["openings", since, until],
    placeholderData: keepPreviousData,
    queryFn: () => take(api.GET("/api/v1/openings", { params: { query: { since, until } } })),
  });
