// What needs a person, as every page knows it.
import { queryOptions, useQuery } from "@tanstack/react-query";
import { useEffect, useRef } from "react";

import { api, type Call, take } from "../api/client";
import { stream } from "../api/stream";

/** Everything that needs a person, over all runs. */
export const calls = queryOptions({
  queryKey: ["calls"],
  queryFn: () => stream.first("calls", () => take(api.GET("/api/v1/calls"))),
});

/** Those that are due now. */
export const dueOf = (rows: readonly Call[]): Call[] => rows.filter((row) => row.kind !== "coming");

/** Those that are due and that nobody has seen. */
export const unseenOf = (rows: readonly Call[]): Call[] => dueOf(rows).filter((row) => !row.seen_by);

/** Calls that were not there before: what a notification is about. */
export const freshOf = (rows: readonly Call[], known: ReadonlySet<string>): Call[] =>
  unseenOf(rows).filter((row) => !known.has(row.id));

const TITLE = "Ordnung";
const LOUD = "ordnung-call-aloud";

/** Whether this device tells of calls aloud and as notifications: asked for by whoever uses it. */
export const isLoud = (): boolean => localStorage.getItem(LOUD) === "yes";

/** Tell of calls on this device, or no more; asks the browser first. Returns whether it does now. */
export async function beLoud(loud: boolean): Promise<boolean> {
  const allowed = loud && "Notification" in window ? await Notification.requestPermission() : "default";
  localStorage.setItem(LOUD, loud ? "yes" : "no");
  return loud && allowed !== "denied";
}

/** Keep the page's title by what needs a person, and call on this device for what is new. */
export function useCalls(): Call[] {
  const { data } = useQuery(calls);
  const known = useRef<Set<string> | null>(null);
  const open = data ? unseenOf(data).length : 0;
  useEffect(() => {
    document.title = open ? `(${open}) ${TITLE}` : TITLE;
  }, [open]);
  useEffect(() => {
    if (!data) return;
    const fresh = known.current === null ? [] : freshOf(data, known.current);
    known.current = new Set(data.map((row) => row.id));
    const first = fresh[0];
    if (first && isLoud()) call(first, fresh.length);
  }, [data]);
  return data ?? [];
}

function call(first: Call, count: number): void {
  beep();
  if (!("Notification" in window) || Notification.permission !== "granted") return;
  const title = count > 1 ? `${count} calls` : first.server || first.run_name;

  new Notification(title, { body: first.text, tag: "ordnung-call" });
}

const TONES_HZ = [660, 880];
const TONE_S = 0.16;

/** Two short tones. */
function beep(): void {
  const audio = new AudioContext();
  TONES_HZ.forEach((pitch, at) => {
    const tone = audio.createOscillator();
    const level = audio.createGain();
    tone.frequency.value = pitch;
    level.gain.value = 0.12;
    tone.connect(level).connect(audio.destination);
    tone.start(audio.currentTime + at * TONE_S);
    tone.stop(audio.currentTime + (at + 1) * TONE_S);
  });
}
