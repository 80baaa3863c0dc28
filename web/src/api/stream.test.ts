import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";

import { Stream } from "./stream";

beforeEach(() => void vi.useFakeTimers());
afterEach(() => void vi.useRealTimers());
const asked = () => vi.fn(async () => "asked");

describe("what a page is given when it opens", () => {
  it("need not be asked for", async () => {
    const [stream, ask] = [new Stream(), asked()];
    const first = stream.first("site", ask);
    expect(stream.give("site", "given")).toBe(true);
    stream.begin(["site"]);
    await expect(first).resolves.toBe("given");
    expect(ask).not.toHaveBeenCalled();
    await expect(stream.first("site", ask)).resolves.toBe("asked");
  });

  it("is asked for when it is not among it", async () => {
    const [stream, ask] = [new Stream(), asked()];
    const first = stream.first("work", ask);
    stream.begin([]);
    await expect(first).resolves.toBe("asked");
  });

  it("is asked for when the stream does not come", async () => {
    const [stream, ask] = [new Stream(), asked()];
    const first = stream.first("calls", ask);
    await vi.advanceTimersByTimeAsync(299);
    expect(ask).not.toHaveBeenCalled();
    await vi.advanceTimersByTimeAsync(1);
    await expect(first).resolves.toBe("asked");
  });

  it("is old once it was given anew", async () => {
    const [stream, ask] = [new Stream(), asked()];
    stream.give("calls", "given");
    stream.begin(["calls"]);
    expect(stream.give("calls", "newer")).toBe(false);
    await expect(stream.first("calls", ask)).resolves.toBe("asked");
  });
});
