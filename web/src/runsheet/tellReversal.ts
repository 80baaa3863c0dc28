// In words: to what an update could be taken back, and what that would take.
import type { Reversal } from "../api/client";
import { duration } from "../shell/format";

/** What going back takes, whether its payload is at hand, and whether it would be less than all the way. */
export function tellReversal(found: Reversal): string {
  if (found.barred) return `no way back: ${found.barred}`;
  return [
    found.to === found.before ? "" : `not all the way to ${found.before}`,
    found.resets || "no reset",
    `about ${duration(found.seconds)}`,
    found.outage ? "out of service meanwhile" : "",
    found.stored
      ? `packed in ${found.repositories.map((r) => r.name).join(", ")}`
      : "its payload is not packed: pack it before",
  ]
    .filter(Boolean)
    .join("; ");
}
