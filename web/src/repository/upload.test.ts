import { describe, expect, it } from "vitest";

import { Refused } from "../api/client";
import { mayGoOn, nextPiece, PIECE } from "./upload";

describe("the next piece of a file", () => {
  it.each([
    [0, 10, "bytes 0-9/10"],
    [4, 10, "bytes 4-9/10"],
    [0, PIECE * 3, `bytes 0-${PIECE - 1}/${PIECE * 3}`],
    [PIECE * 2, PIECE * 2 + 1, `bytes ${PIECE * 2}-${PIECE * 2}/${PIECE * 2 + 1}`],
  ])("%d of %d", (received, total, span) => expect(nextPiece(received, total)?.span).toBe(span));
  it("is nothing at the end", () => expect(nextPiece(10, 10)).toBeNull());
});

const refused = (status: number) => new Refused({ type: "x", title: "x", status, detail: "x" });

describe("going on after a failure", () => {
  it("a broken line, a server that is away, a piece out of turn", () =>
    expect([new TypeError("line"), refused(502), refused(409)].every(mayGoOn)).toBe(true));
  it("a refusal ends it", () => expect([refused(401), refused(413), refused(422)].some(mayGoOn)).toBe(false));
});
