// The order in which calls are walked: by room and rack, from the top unit down.
import type { Call } from "../api/client";

/** Where one stops on the way, and for what. */
export interface Stop {
  /** Where one stands: room and rack; empty for what is at no server. */
  where: string;
  calls: Call[];
}

/** Calls at one rack together, in the order in which they came. */
export function stopsOf(rows: readonly Call[]): Stop[] {
  const stops: Stop[] = [];
  for (const call of rows) {
    const where = [call.room, call.rack && `rack ${call.rack}`].filter(Boolean).join(", ");
    const known = stops.find((stop) => stop.where === where);
    if (known) known.calls.push(call);
    else stops.push({ where, calls: [call] });
  }
  return stops;
}
