import type { Server } from "../api/client";

export const UNITS = 42;

/** The servers of one rack, from the top unit down: the order in which the arrows walk. */
export function walk(servers: Server[], rack: string): Server[] {
  return servers.filter((s) => s.rack === rack).sort((a, b) => b.unit - a.unit || a.name.localeCompare(b.name));
}

/** The racks that hold servers, by name; servers without a place come under "". */
export function racks(servers: Server[]): string[] {
  return [...new Set(servers.map((s) => s.rack))].sort();
}

/** Where a server stands, in units from the rack's top. A server's unit is its lowest. */
export const top = (server: Server): number => UNITS - (server.unit + server.height - 1);

/** The next name a key leads to; the same one at either end. Pure, so that it can be tested by table. */
export function nextName(order: string[], from: string | null, key: string): string | null {
  if (!order.length) return null;
  const at = from ? order.indexOf(from) : -1;
  const last = order.length - 1;
  if (key === "Home") return order[0] ?? null;
  if (key === "End") return order[last] ?? null;
  if (at < 0) return order[key === "ArrowUp" ? last : 0] ?? null;
  return order[Math.min(last, Math.max(0, at + (key === "ArrowUp" ? -1 : 1)))] ?? null;
}

/** All names between two, both included. */
export function span(order: string[], from: string, to: string): string[] {
  const [a, b] = [order.indexOf(from), order.indexOf(to)].sort((x, y) => x - y) as [number, number];
  return order.slice(a, b + 1);
}
