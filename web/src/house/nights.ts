// A week of nights: each from noon to noon by the house's wall clock, with the windows that are open in it.
import type { Opening } from "../api/client";

const DAY_MS = 86_400_000;
const DAY_MIN = 1440;
/** A night is drawn from noon to noon: a window over midnight is one piece. */
const NOON = 720;

/** A day and the minute of it, as the clock on the wall of a zone shows an instant. */
export interface WallTime {
  day: string;
  minute: number;
}

const walls = new Map<string, Intl.DateTimeFormat>();

function wallIn(zone: string): Intl.DateTimeFormat {
  const made =
    walls.get(zone) ??
    new Intl.DateTimeFormat("en-CA", {
      timeZone: zone,
      hourCycle: "h23",
      year: "numeric",
      month: "2-digit",
      day: "2-digit",
      hour: "2-digit",
      minute: "2-digit",
    });
  walls.set(zone, made);
  return made;
}

/** What the wall clock of a zone shows at an instant. */
export function wallOf(instant: Date, zone: string): WallTime {
  const parts = wallIn(zone).formatToParts(instant);
  const told = Object.fromEntries(parts.map((p) => [p.type, p.value]));
  return {
    day: `${told.year}-${told.month}-${told.day}`,
    minute: Number(told.hour) * 60 + Number(told.minute),
  };
}

/** The day so many days after another, both as ``2026-11-26``. */
export const dayAfter = (day: string, days = 1): string =>
  new Date(Date.parse(`${day}T00:00:00Z`) + days * DAY_MS).toISOString().slice(0, 10);

/** The Monday of the week of a day. */
export function mondayOf(day: string): string {
  const weekday = (new Date(`${day}T00:00:00Z`).getUTCDay() + 6) % 7;
  return dayAfter(day, -weekday);
}

/** Minutes since the noon with which a night begins. */
const since = (day: string, { day: other, minute }: WallTime): number =>
  ((Date.parse(`${other}T00:00:00Z`) - Date.parse(`${day}T00:00:00Z`)) / DAY_MS) * DAY_MIN + minute - NOON;

/** A window as it lies in a night: shares of the way from noon to noon. */
export interface Piece {
  opening: Opening;
  left: number;
  right: number;
  /** Whether it goes on from the night before, or into the next. */
  goesOn: boolean;
}

/** One night. */
export interface Night {
  day: string;
  pieces: Piece[];
}

/** Seven nights from a day on, with what is open in each. */
export function nightsOf(first: string, openings: Opening[], zone: string): Night[] {
  return Array.from({ length: 7 }, (_, at) => {
    const day = dayAfter(first, at);
    const pieces = openings.flatMap((opening): Piece[] => {
      const left = since(day, wallOf(new Date(opening.start), zone));
      const right = since(day, wallOf(new Date(opening.end), zone));
      if (right <= 0 || left >= DAY_MIN) return [];
      return [
        {
          opening,
          left: Math.max(0, left) / DAY_MIN,
          right: Math.min(DAY_MIN, right) / DAY_MIN,
          goesOn: left < 0 || right > DAY_MIN,
        },
      ];
    });
    return { day, pieces };
  });
}

/** By how many hours a window is longer than its wall clock says: the clock is put back within it, or on. */
export function clockChange(opening: Opening, zone: string): number {
  const [start, end] = [new Date(opening.start), new Date(opening.end)];
  const real = (end.getTime() - start.getTime()) / 60_000;
  const from = wallOf(start, zone);
  const wall = since(from.day, wallOf(end, zone)) - since(from.day, from);
  return Math.round(real - wall) / 60;
}

/** "22:00". */
export const tellMinute = ({ minute }: WallTime): string =>
  `${String(Math.floor(minute / 60)).padStart(2, "0")}:${String(minute % 60).padStart(2, "0")}`;

/** A window in words: "Thursdays, 22:00 to 04:00, 6 h". */
export function tellOpening(opening: Opening, zone: string): string {
  const hours = (Date.parse(opening.end) - Date.parse(opening.start)) / 3_600_000;
  const [from, to] = [opening.start, opening.end].map((at) => tellMinute(wallOf(new Date(at), zone)));
  const change = clockChange(opening, zone);
  const why = change ? `, the clock is put ${change > 0 ? "back" : "on"} in it` : "";
  return `${opening.window}, ${from} to ${to}, ${Number(hours.toFixed(2))} h${why}`;
}
