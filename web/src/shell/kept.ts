/**
 * Selections of many servers. An address says a few names itself; of many it says a short name, by which the server
 * keeps them: so it can be reloaded and passed on however many there are.
 */
import { api, take } from "../api/client";

/** Up to so many names stand in the address themselves. */
export const IN_ADDRESS = 24;
const MARK = "@";
const BYTES = 8;

const namesBy = new Map<string, string[]>();
const nameOf = new Map<string, string>();
const sending = new Map<string, Promise<void>>();

/** Know a selection by its short name, from here on. */
export function learn(short: string, names: string[]): void {
  namesBy.set(short, names);
  nameOf.set(names.join(","), short);
}

const LAST = "ordnung.selection";

/** Leave the selection made last in this tab: a reload may come before the server has it. */
function leave(short: string, names: string[]): void {
  try {
    sessionStorage.setItem(LAST, JSON.stringify({ short, names }));
  } catch {
    // A browser that stores nothing has only what the server keeps.
  }
}

/** Know again what this tab left. */
export function recall(): void {
  try {
    const left = JSON.parse(sessionStorage.getItem(LAST) ?? "null") as {
      short: string;
      names: string[];
    } | null;
    if (left) learn(left.short, left.names);
  } catch {
    // As above.
  }
}

const newName = (): string =>
  Array.from(crypto.getRandomValues(new Uint8Array(BYTES)), (byte) => (byte % 36).toString(36)).join("");

/** How an address says these names. The same names are said the same way again. */
export function spell(names: string[]): string {
  const said = names.join(",");
  if (names.length <= IN_ADDRESS) return said;
  const short = nameOf.get(said) ?? newName();
  if (!nameOf.has(said)) learn(short, names);
  leave(short, names);
  return MARK + short;
}

/** The short name that an address says, if it says one. */
export const shortName = (said: string | null): string | null =>
  said?.startsWith(MARK) ? said.slice(MARK.length) : null;

/** Whether the names behind a short name are known here. */
export const isKnown = (short: string): boolean => namesBy.has(short);

/** The names that an address says; none for a short name that was not fetched yet. */
export function readNames(said: string): string[] {
  const short = shortName(said);
  if (short !== null) return namesBy.get(short) ?? [];
  return said ? said.split(",") : [];
}

/** What an address says, once the server can tell the names behind it too. */
export async function asKept(said: string): Promise<string> {
  const short = shortName(said);
  const servers = short === null ? undefined : namesBy.get(short);
  if (short === null || servers === undefined) return said;
  const path = { params: { path: { name: short } }, body: { servers } };
  const sent = sending.get(short) ?? take(api.PUT("/api/v1/selections/{name}", path)).then(() => undefined);
  sending.set(short, sent);
  // What did not get there is sent again the next time it is needed.
  sent.catch(() => sending.delete(short));
  await sent;
  return said;
}

/** Fetch the names behind a short name that came with an address from elsewhere. */
export async function fetchKept(short: string): Promise<string[]> {
  const path = { params: { path: { name: short } } };
  const { servers } = await take(api.GET("/api/v1/selections/{name}", path));
  learn(short, servers);
  sending.set(short, Promise.resolve());
  return servers;
}
