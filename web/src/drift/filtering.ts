import { readNames } from "../shell/kept";

/** What Drift is narrowed by; all of it lives in the address. */
export const FILTER_KEYS = [
  "room",
  "rack",
  "group",
  "model",
  "item",
  "verdict",
  "importance",
  "score",
  "on",
  "advisory",
  "only",
] as const;
/** One of them. */
export type FilterKey = (typeof FILTER_KEYS)[number];

const SENT: Partial<Record<FilterKey, string>> = { item: "product" };

/** The filters of an address as the API wants them; the selection of servers is one of them. */
export function readFilters(params: URLSearchParams): Record<string, string> {
  const found: Record<string, string> = {};
  for (const key of FILTER_KEYS) {
    const value = params.get(key);
    if (value) found[SENT[key] ?? key] = value;
  }
  const servers = params.get("servers");
  if (servers) found.servers = servers;
  return found;
}

/** The same as a query for a file. */
export const asQuery = (filters: Record<string, string>): string => {
  const text = new URLSearchParams(filters).toString();
  return text ? `?${text}` : "";
};

const WORDS: Record<string, (value: string) => string> = {
  room: (v) => v,
  rack: (v) => v,
  group: (v) => v,
  model: (v) => v,
  product: (v) => v,
  verdict: (v) => v,
  importance: (v) => `${v} releases missed`,
  score: (v) => `scored ${v} and up`,
  on: (v) => `on ${v}`,
  advisory: (v) => `affected by ${v}`,
  only: () => "only what drifts",
  servers: (v) => `${readNames(v).length} selected`,
};

/** One filter in words. */
export const tellFilter = (key: string, value: string): string =>
  (WORDS[key] ?? ((v: string) => v))(value.replaceAll("|", " or "));

/** The key in the address for a filter of the API. */
export const addressKey = (key: string): string => (key === "product" ? "item" : key);
