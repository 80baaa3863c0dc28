/** What the audit trail can be narrowed by. */
export const FILTERS = ["who", "command", "result", "server", "run"] as const;
/** One of them. */
export type Filter = (typeof FILTERS)[number];

const isSaid = (value: unknown): boolean =>
  value !== null && value !== "" && value !== false && !(Array.isArray(value) && !value.length);

/** Facts of an entry in a line: "order hold", "servers surge-07, surge-08", nested ones in brackets; perhaps only those that say something. */
export function tellFacts(facts: Record<string, unknown>, only = false): string {
  return Object.entries(facts)
    .filter(([, value]) => !only || isSaid(value))
    .map(([name, value]) => `${name.replaceAll("_", " ")} ${tellValue(value)}`)
    .join(", ");
}

const SHOWN = 4;

/** A list as far as somebody reads it; the whole stands in the exported trail. */
const tellList = (items: string[]): string =>
  items.length <= SHOWN
    ? items.join(", ")
    : `${items.slice(0, SHOWN - 1).join(", ")} and ${items.length - SHOWN + 1} more`;

function tellValue(value: unknown): string {
  if (value === null || value === "") return "none";
  if (Array.isArray(value)) return value.length ? tellList(value.map(tellValue)) : "none";
  return typeof value === "object" ? `(${tellFacts(value as Record<string, unknown>)})` : String(value);
}
