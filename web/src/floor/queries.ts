// What the floor asks for.
import { queryOptions } from "@tanstack/react-query";

import { api, take, takePage } from "../api/client";
import { asKept, spell } from "../shell/kept";

/** How many servers are asked for at once. */
const PAGE = 1000;

/** Servers by name. */
export const named = (names: string[]) =>
  queryOptions({
    queryKey: ["servers", ...names],
    queryFn: async () =>
      (
        await take(
          api.GET("/api/v1/servers", {
            params: { query: { servers: await asKept(spell(names)), limit: PAGE } },
          }),
        )
      ).servers,
  });
/** Who is away because of a run, or was left away by one. */
export const away = queryOptions({
  queryKey: ["groups", "away"],
  queryFn: () => take(api.GET("/api/v1/away")),
});
/** Components that vanished and that nobody has seen to. */
export const lost = queryOptions({ queryKey: ["lost"], queryFn: () => take(api.GET("/api/v1/lost")) });
/** A search for controllers, as far as it is. */
export const search = (id: number) =>
  queryOptions({
    queryKey: ["search", id],
    queryFn: () => take(api.GET("/api/v1/searches/{id}", { params: { path: { id } } })),
  });
/** The readings kept of a server, newest first, so many. */
export const readings = (name: string, limit: number) =>
  queryOptions({
    queryKey: ["server", name, "readings", limit],
    queryFn: () =>
      takePage(api.GET("/api/v1/servers/{name}/readings", { params: { path: { name }, query: { limit } } })),
  });
/** What changed in a server between two readings. */
export const changes = (name: string, before: number | null, after: number | null) =>
  queryOptions({
    queryKey: ["server", name, "changes", before, after],
    queryFn: () =>
      take(
        api.GET("/api/v1/servers/{name}/changes", {
          params: { path: { name }, query: { ...(before ? { before } : {}), ...(after ? { after } : {}) } },
        }),
      ),
  });
