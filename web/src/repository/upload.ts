import { api, Refused, sendPiece, take, type Upload } from "../api/client";

/** How many bytes are sent at once; the server takes four times as many at most. */
export const PIECE = 8 * 1024 * 1024;
const TRIES = 5;

/** The next piece of a file: from where it is, at most `PIECE` long, and how it is named. */
export function nextPiece(
  received: number,
  total: number,
): { from: number; to: number; span: string } | null {
  if (received >= total) return null;
  const to = Math.min(total, received + PIECE);
  return { from: received, to, span: `bytes ${received}-${to - 1}/${total}` };
}

/** Whether a piece failed by the line, so that the same file may be gone on with. */
export const mayGoOn = (error: unknown): boolean =>
  !(error instanceof Refused) || error.problem.status === 409 || error.problem.status >= 500;

const wait = (ms: number) => new Promise((done) => window.setTimeout(done, ms));

/** Send a file piece by piece; after a break it goes on from what the server has. Resolves to the upload's id. */
export async function upload(file: File, told: (received: number) => void): Promise<string> {
  let state: Upload = await take(api.POST("/api/v1/uploads", { body: { name: file.name, size: file.size } }));
  const path = `/api/v1/uploads/${state.id}`;
  let failed = 0;
  for (;;) {
    told(state.received);
    const piece = nextPiece(state.received, state.size);
    if (!piece) return state.id;
    try {
      state = await sendPiece<Upload>(path, file.slice(piece.from, piece.to), piece.span);
      failed = 0;
    } catch (error) {
      failed += 1;
      if (!mayGoOn(error) || failed > TRIES)
        throw error instanceof Refused
          ? error
          : new Error("The line broke. Choose the same file again: it is gone on with from where it is.");
      await wait(500 * 2 ** failed);
      state = await take(api.GET("/api/v1/uploads/{id}", { params: { path: { id: state.id } } }));
    }
  }
}
