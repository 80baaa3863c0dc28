import { queryOptions } from "@tanstack/react-query";

import { api, type FloorColumns, take } from "../api/client";
import { FIXED, KINDS, OFF, OTHERS, VERDICTS } from "./words";

/** One cell of a server's row: its letter, verdict and how many releases it is behind. */
export interface Mark {
  letter: string;
  kind: string;
  verdict: string;
  behind: number;
}

/** One server as the floor draws it. */
export interface Spot {
  name: string;
  model: string;
  serial: string;
  room: string;
  rack: string;
  unit: number;
  height: number;
  group: string;
  marks: Mark[];
  off: number;
  exposed: number;
  score: number;
  components: number;
  outages: number;
  cycles: number;
  restarts: number;
  read: number;
  health: string;
  reach: string;
  hindrances: string;
  failure: string;
  lost: number;
  running: number;
}

/** The answer's columns as servers. The fixed six come two characters each, others three: letter, verdict, depth. */
export function readSpots(columns: FloorColumns): Spot[] {
  const word = (code: string): string => columns.verdicts[code] ?? "unread";
  return columns.name.map((name, n) => {
    const cells = columns.cells[n] ?? "";
    const others = columns.others[n] ?? "";
    const marks = FIXED.map(([letter, kind], at) => ({
      letter,
      kind,
      verdict: word(cells[at * 2] ?? ""),
      behind: Number(cells[at * 2 + 1] ?? 0),
    }));
    for (let at = 0; at < others.length; at += 3) {
      const letter = others[at] ?? "O";
      marks.push({
        letter,
        kind: OTHERS.get(letter) ?? "other",
        verdict: word(others[at + 1] ?? ""),
        behind: Number(others[at + 2] ?? 0),
      });
    }
    const text = (list: string[]): string => list[n] ?? "";
    const num = (list: number[]): number => list[n] ?? 0;
    return {
      name,
      model: text(columns.model),
      serial: text(columns.serial),
      room: text(columns.room),
      rack: text(columns.rack),
      unit: num(columns.unit),
      height: Math.max(1, num(columns.height)),
      group: text(columns.group),
      marks,
      off: num(columns.off),
      exposed: num(columns.exposed),
      score: num(columns.score),
      components: num(columns.components),
      outages: num(columns.outages),
      cycles: num(columns.cycles),
      restarts: num(columns.restarts),
      read: num(columns.read),
      health: text(columns.health),
      reach: text(columns.reach),
      hindrances: text(columns.hindrances),
      failure: text(columns.failure),
      lost: num(columns.lost),
      running: num(columns.running),
    };
  });
}

const WEIGHT = ["level", "unordered", "pending", "behind", "stranded", "exposed"];

/** The verdict that stands for a whole server when there is room for one mark only: what asks for something. */
export const worst = (spot: Spot): string =>
  spot.read
    ? spot.marks.reduce(
        (found, m) => (WEIGHT.indexOf(m.verdict) > WEIGHT.indexOf(found) ? m.verdict : found),
        "level",
      )
    : "unread";

const short = (kind: string): string =>
  (kind === "bios" || kind === "raid" ? kind.toUpperCase() : (KINDS[kind] ?? kind).toLowerCase()).replace(
    "management ",
    "",
  );

/** What is off in a server, in few words. */
export function tellOff(spot: Spot): string {
  if (!spot.read) return "not read yet";
  const off = spot.marks.filter((m) => OFF.has(m.verdict));
  return off.length
    ? off.map((m) => `${short(m.kind)}${m.verdict === "pending" ? " (waiting for a reset)" : ""}`).join(", ")
    : "level";
}

/** What a server has to pay, in words. */
export function tellResets(spot: Spot): string {
  const parts: [number, string][] = [
    [spot.outages - spot.cycles, "reboot"],
    [spot.cycles, "power cycle"],
    [spot.restarts, "controller restart"],
  ];
  return parts
    .filter(([n]) => n > 0)
    .map(([n, word]) => `${n} ${word}${n > 1 ? "s" : ""}`)
    .join(", ");
}

/** A server in a sentence, for those who don't see the drawing. */
export function tellSpot(spot: Spot): string {
  const place = [spot.rack && `rack ${spot.rack}`, spot.unit ? `unit ${spot.unit}` : ""]
    .filter(Boolean)
    .join(" ");
  const marks = spot.marks
    .filter((m) => m.verdict !== "level" && m.verdict !== "unread")
    .map((m) => `${short(m.kind)} ${VERDICTS[m.verdict] ?? m.verdict}`);
  return [
    spot.name,
    place,
    spot.failure,
    !spot.read ? "not read yet" : marks.length ? marks.join(", ") : "all on the baseline",
    spot.lost ? `${spot.lost} vanished` : "",
    spot.running ? "in a run" : "",
  ]
    .filter(Boolean)
    .join("; ");
}

/** Every server as the floor draws it. */
export const floor = queryOptions({
  queryKey: ["floor"],
  queryFn: async () => readSpots(await take(api.GET("/api/v1/floor"))),
});
