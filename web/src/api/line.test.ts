import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";

import { AGAIN_MS, hear } from "./line";

/** As much of the browser's as is used. */
class Source extends EventTarget {
  static readonly CLOSED = 2;
  static opened: Source[] = [];
  readyState = 1;
  constructor(readonly url: string) {
    super();
    Source.opened.push(this);
  }
  close() {
    this.readyState = Source.CLOSED;
  }
  tell(kind: string, told: unknown, id = "") {
    this.dispatchEvent(new MessageEvent(kind, { data: JSON.stringify(told), lastEventId: id }));
  }
  fail(readyState: number) {
    this.readyState = readyState;
    this.dispatchEvent(new Event("error"));
  }
}

function newest(): Source {
  const source = Source.opened.at(-1);
  if (!source) throw new Error("no line was opened");
  return source;
}

beforeEach(() => {
  vi.useFakeTimers();
  vi.stubGlobal("EventSource", Source);
  vi.stubGlobal("window", globalThis);
  Source.opened = [];
});
afterEach(() => {
  vi.unstubAllGlobals();
  vi.useRealTimers();
});

describe("the line to the server's events", () => {
  it("is up once the server has said where it begins, and down when it breaks", () => {
    const setUp = vi.fn();
    const change = vi.fn();
    hear(4, { change }, setUp);
    expect(newest().url).toBe("/api/v1/events?after=4");
    newest().dispatchEvent(new Event("open"));
    expect(setUp).not.toHaveBeenCalled();
    newest().tell("begun", { missed: null, given: [] });
    expect(setUp).toHaveBeenLastCalledWith(true);
    newest().tell("change", { topic: "work" }, "7");
    expect(change).toHaveBeenLastCalledWith({ topic: "work" }, 7);
    newest().fail(0);
    expect(setUp).toHaveBeenLastCalledWith(false);
  });

  it("is left to the browser while that comes back by itself", async () => {
    hear(4, {}, vi.fn());
    newest().fail(0);
    await vi.advanceTimersByTimeAsync(10 * AGAIN_MS);
    expect(Source.opened).toHaveLength(1);
  });

  it("is opened anew from what was heard last, when an answer was no stream", async () => {
    hear(4, { change: vi.fn() }, vi.fn());
    newest().tell("change", { topic: "work" }, "9");
    newest().fail(Source.CLOSED);
    await vi.advanceTimersByTimeAsync(AGAIN_MS);
    expect(Source.opened.map((source) => source.url)).toEqual([
      "/api/v1/events?after=4",
      "/api/v1/events?after=9",
    ]);
  });

  it("stays closed once it is left", async () => {
    const leave = hear(4, {}, vi.fn());
    newest().fail(Source.CLOSED);
    leave();
    await vi.advanceTimersByTimeAsync(AGAIN_MS);
    expect(Source.opened).toHaveLength(1);
    expect(newest().readyState).toBe(Source.CLOSED);
  });
});
