import type { Line, Offer, Trim } from "../api/client";

/** One piece of the scale bar: a kind, or the ways back, that goes along or was left out. */
export interface Part {
  kind: string;
  bytes: number;
  out: boolean;
  from: number;
  share: number;
  trim: Trim;
}

const ORDER = ["bios", "controller", "raid", "nic", "drive", "power", "backplane", "logic", "store", "other"];
const BACK = "way back";

const kindOf = (line: Line): string => (line.reasons.every((r) => r === BACK) ? BACK : line.kind);

/** The trim that leaves out a kind. */
export const trimOf = (kind: string): Trim =>
  kind === BACK ? { by: "reason", value: BACK } : { by: "kind", value: kind };

/** Whether two trims leave out the same. */
export const sameTrim = (one: Trim, other: Trim): boolean => one.by === other.by && one.value === other.value;

/** The trims after one was pressed: put in, or taken out. */
export const toggled = (trims: Trim[], trim: Trim): Trim[] =>
  trims.some((t) => sameTrim(t, trim)) ? trims.filter((t) => !sameTrim(t, trim)) : [...trims, trim];

/** Bytes by kind in the fixed order, what goes along first, then what was left out, and where each begins (0 to 1). */
export function layOut(lines: Line[], room: number): Part[] {
  const sums = new Map<string, number>();
  const add = (key: string, bytes: number) => sums.set(key, (sums.get(key) ?? 0) + bytes);
  for (const line of lines) add(`${line.state === "left out" ? "-" : "+"}${kindOf(line)}`, line.size);
  const total = Math.max(
    room,
    [...sums.values()].reduce((a, b) => a + b, 0),
    1,
  );
  let from = 0;
  return ["+", "-"].flatMap((sign) =>
    [...ORDER, BACK].flatMap((kind) => {
      const bytes = sums.get(sign + kind);
      if (!bytes) return [];
      const part = { kind, bytes, out: sign === "-", from, share: bytes / total, trim: trimOf(kind) };
      from += part.share;
      return [part];
    }),
  );
}

/** Trims as they stand in the address, "kind:drive|model:Reed 12". */
export const spellTrims = (trims: Trim[]): string => trims.map((t) => `${t.by}:${t.value}`).join("|");

const BY = new Set(["kind", "product", "model", "rule", "reason", "payload"]);

/** The trims that an address says. */
export function readTrims(text: string | null): Trim[] {
  return (text ?? "").split("|").flatMap((part) => {
    const at = part.indexOf(":");
    const by = part.slice(0, at);
    return at > 0 && BY.has(by) ? [{ by: by as Trim["by"], value: part.slice(at + 1) }] : [];
  });
}

/** A medium in the address: its bytes, or nothing. */
export function readCapacity(text: string | null): number | null {
  const bytes = Number(text);
  return text && Number.isFinite(bytes) && bytes >= 1e6 ? Math.round(bytes) : null;
}

/** Trims by what they go by, without those the bar and the list have already. */
export function groupOffers(offers: Offer[]): [string, Offer[]][] {
  const words: [string, string][] = [
    ["model", "Server models"],
    ["rule", "House rules"],
    ["product", "Products"],
  ];
  return words
    .map(([by, word]) => [word, offers.filter((o) => o.by === by)] as [string, Offer[]])
    .filter(([, found]) => found.length > (found[0]?.by === "model" ? 1 : 0));
}
