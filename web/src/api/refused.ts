import { useSyncExternalStore } from "react";

/** For a command whose place has no room for an answer: its refusal is told at the bottom of the page. */
export const ALOUD = { aloud: true };

let told = "";
const hearing = new Set<() => void>();

/** Tell it until it was seen; empty: it was. */
export function tellRefused(message: string): void {
  told = message;
  for (const hear of hearing) hear();
}

/** Have something done that nobody waits for; a refusal is told at the bottom of the page. */
export function ask(doing: Promise<unknown>): void {
  doing.catch((error: unknown) => tellRefused(error instanceof Error ? error.message : String(error)));
}

const subscribe = (hear: () => void) => {
  hearing.add(hear);
  return () => void hearing.delete(hear);
};

/** What was refused last and not yet seen; empty when nothing was. */
export const useRefused = (): string => useSyncExternalStore(subscribe, () => told);
