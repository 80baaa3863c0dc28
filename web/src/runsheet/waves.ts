// Waves as they are edited: who goes in which, in which order; pure, so that what a move means can be tried first.
import type { Run, SheetChange } from "../api/client";

/** A wave with who goes in it. */
export interface WaveDraft {
  name: string;
  wait_seconds: number;
  gate: "none" | "person";
  not_before: string | null;
  servers: string[];
}

/** The waves of a sheet, each with its servers in the order in which they begin. */
export const wavesOf = (run: Run): WaveDraft[] =>
  run.waves.map(({ name, wait_seconds, gate, not_before }) => ({
    name,
    wait_seconds,
    gate,
    not_before,
    servers: run.servers.filter((lane) => lane.wave === name).map((lane) => lane.server),
  }));

/** A server goes with another wave. */
export const moveServer = (waves: WaveDraft[], server: string, to: string): WaveDraft[] =>
  waves.map((wave) => {
    const others = wave.servers.filter((name) => name !== server);
    return { ...wave, servers: wave.name === to ? [...others, server] : others };
  });

/** The wave so many before or after the one a server goes with; null where there is none. */
export function besideOf(waves: WaveDraft[], server: string, by: number): string | null {
  const at = waves.findIndex((wave) => wave.servers.includes(server));
  return at < 0 ? null : (waves[at + by]?.name ?? null);
}

/** A wave goes so many places earlier or later. */
export function moveWave(waves: WaveDraft[], name: string, by: number): WaveDraft[] {
  const at = waves.findIndex((wave) => wave.name === name);
  const to = at + by;
  const moved = waves[at];
  if (!moved || to < 0 || to >= waves.length) return waves;
  const others = waves.filter((wave) => wave.name !== name);
  return [...others.slice(0, to), moved, ...others.slice(to)];
}

/** One wave with something else. */
export const changeWave = (waves: WaveDraft[], name: string, change: Partial<WaveDraft>): WaveDraft[] =>
  waves.map((wave) => (wave.name === name ? { ...wave, ...change } : wave));

/** Without a wave; who went with it goes with the one before, or after. */
export function dropWave(waves: WaveDraft[], name: string): WaveDraft[] {
  const at = waves.findIndex((wave) => wave.name === name);
  const heir = waves[at - 1]?.name ?? waves[at + 1]?.name;
  const left = waves[at]?.servers ?? [];
  return waves
    .filter((wave) => wave.name !== name)
    .map((wave) => (wave.name === heir ? { ...wave, servers: [...wave.servers, ...left] } : wave));
}

/** A wave more, at the end, with a name that none has. */
export function addWave(waves: WaveDraft[]): WaveDraft[] {
  let number = waves.length + 1;
  while (waves.some((wave) => wave.name === `wave ${number}`)) number += 1;
  return [...waves, { name: `wave ${number}`, wait_seconds: 0, gate: "none", not_before: null, servers: [] }];
}

/** What is asked of the server for them. */
export const changeOf = (waves: WaveDraft[]): SheetChange => ({ waves });
