import type { Server } from "../api/client";

export interface Fold { signature: string; model: string; names: string[]; like: Server; off: number }

/** Equal servers folded into one row, per model, the odd ones first: few of a kind and far off before many and level. */
export function fold(servers: Server[]): { model: string; count: number; folds: Fold[] }[] {
  const found = new Map<string, Fold>();
  for (const server of servers) {
    const key = server.read_at ? server.signature : `unread ${server.name}`;
    const mine = found.get(key);
    if (mine) mine.names.push(server.name);
    else found.set(key, { signature: key, model: server.model || "Not read yet", names: [server.name], like: server, off: server.off });
  }
  const models = [...new Set([...found.values()].map((f) => f.model))].sort();
  const told = models.map((model) => {
    const folds = [...found.values()].filter((f) => f.model === model);
    folds.sort((a, b) => Number(b.off > 0) - Number(a.off > 0) || b.like.exposed - a.like.exposed || b.off - a.off || a.names.length - b.names.length);
    return { model, count: folds.reduce((n, f) => n + f.names.length, 0), folds };
  });
  return told.sort((a, b) => b.count - a.count);
}
