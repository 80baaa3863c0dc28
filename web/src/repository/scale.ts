import type { Line } from "../api/client";

export interface Part { kind: string; bytes: number }

/** Sizes by kind in the fixed order, the ways back apart from what goes forward. */
export function partsOf(lines: Line[]): Part[] {
  const order = ["bios", "controller", "raid", "nic", "drive", "power", "backplane", "logic", "store", "other"];
  const sums = new Map<string, number>();
  for (const line of lines) {
    const kind = line.reasons.every((r) => r === "way back") ? "way back" : line.kind;
    sums.set(kind, (sums.get(kind) ?? 0) + line.size);
  }
  return [...order, "way back"].flatMap((kind) => (sums.has(kind) ? [{ kind, bytes: sums.get(kind) ?? 0 }] : []));
}
