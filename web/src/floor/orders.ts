import { api, take } from "../api/client";

/** Read servers again; none means all. */
export const readAgain = (names: string[]): Promise<unknown> =>
  take(api.POST("/api/v1/surveys", { body: { servers: names, failed: false } }));

/** Have controllers send a test to us. */
export const tryReach = (names: string[]): Promise<unknown> =>
  take(api.POST("/api/v1/reach", { body: { servers: names, failed: false } }));
