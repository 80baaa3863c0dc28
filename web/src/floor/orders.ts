import { api, take } from "../api/client";

/** Have controllers send a test to us. */
export const tryReach = (names: string[]): Promise<unknown> =>
  take(api.POST("/api/v1/reach", { body: { servers: names, failed: false } }));
