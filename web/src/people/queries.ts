// What the place of the people asks for.
import { queryOptions } from "@tanstack/react-query";

import { api, take } from "../api/client";

/** Everyone of the site with their rights. */
export const people = queryOptions({ queryKey: ["people"], queryFn: () => take(api.GET("/api/v1/people")) });
/** Where this person is signed in. */
export const sessions = queryOptions({
  queryKey: ["people", "sessions"],
  queryFn: () => take(api.GET("/api/v1/me/sessions")),
});
