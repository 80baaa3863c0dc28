// One server, and having it read again.
import { queryOptions } from "@tanstack/react-query";

import { api, take } from "../api/client";

/** Everything of one server. */
export const server = (name: string) =>
  queryOptions({
    queryKey: ["server", name],
    queryFn: () => take(api.GET("/api/v1/servers/{name}", { params: { path: { name } } })),
  });

/** Read servers again; none means all. */
export const readAgain = (names: string[]): Promise<unknown> =>
  take(api.POST("/api/v1/surveys", { body: { servers: names, failed: false } }));
