import type { Cell } from "../api/client";

/** The verdicts in the words of the interface. */
export const VERDICTS: Record<string, string> = {
  level: "on the baseline",
  behind: "behind",
  exposed: "behind, security fix missing",
  ahead: "ahead of the baseline",
  held: "held by a rule",
  pending: "written, waits for a reset",
  unlisted: "in no catalog",
  unordered: "can't be ordered",
  stranded: "no way there",
  unread: "not read",
};

export const KINDS: Record<string, string> = {
  bios: "BIOS", controller: "Management controller", raid: "RAID", nic: "Network", drive: "Drives",
  power: "Power", backplane: "Backplane", logic: "Logic", store: "Store", other: "Other",
};

/** One cell in a sentence, for those who don't see the glyph. */
export function tellCell(cell: Cell): string {
  const kind = KINDS[cell.kind] ?? cell.kind;
  if (!cell.count) return `${kind}: none read`;
  const verdict = VERDICTS[cell.verdict] ?? cell.verdict;
  const depth = cell.behind > 0 ? `, ${cell.behind} release${cell.behind > 1 ? "s" : ""}` : "";
  const target = cell.target && cell.verdict !== "level" ? ` → ${cell.target}` : "";
  const waits = cell.waiting ? ` ${cell.waiting} waits` : "";
  const via = cell.via.length ? ` by way of ${cell.via.join(", ")}` : "";
  return `${kind} ${cell.versions}${waits}${via}${target}: ${verdict}${depth}`;
}

/** What is off in a server, in few words. */
export function tellServer(cells: Cell[]): string {
  const off = cells.filter((c) => ["behind", "exposed", "pending", "stranded", "unordered"].includes(c.verdict));
  const short = (kind: string): string => (kind === "controller" ? "controller" : kind === "bios" || kind === "raid" ? kind.toUpperCase() : (KINDS[kind] ?? kind).toLowerCase());
  return off.map((c) => `${short(c.kind)}${c.verdict === "pending" ? " (waiting for a reset)" : ""}`).join(", ");
}
