import { afterEach, expect, test, vi } from "vitest";

import { api, Refused, take, takePage } from "./client";

afterEach(() => {
  vi.unstubAllGlobals();
  vi.useRealTimers();
});

/** Requests as they went out; each is answered by the next of ``answers``, an error breaks the line. */
function line(...answers: (Response | Error)[]): Request[] {
  const asked: Request[] = [];
  vi.stubGlobal("fetch", async (request: Request) => {
    asked.push(request);
    const next = answers.shift() ?? new Error("no answer left");
    if (next instanceof Error) throw next;
    return next;
  });
  vi.stubGlobal("location", { href: "http://localhost/" });
  return asked;
}

const json = (body: unknown, headers: Record<string, string> = {}) =>
  new Response(JSON.stringify(body), { headers: { "Content-Type": "application/json", ...headers } });
const base = "http://localhost/";

test("a POST whose line broke is sent once more with the same key and body", async () => {
  vi.useFakeTimers();
  const asked = line(new TypeError("broken"), json({ id: 7 }));
  const answer = take(
    api.POST("/api/v1/surveys", { baseUrl: base, body: { servers: ["surge-01"], failed: false } }),
  );
  await vi.runAllTimersAsync();
  await answer;
  const keys = asked.map((request) => request.headers.get("Idempotency-Key"));
  expect(keys[0]).toMatch(/^[0-9a-f]{32}$/);
  expect(keys[1]).toBe(keys[0]);
  expect(await asked[1]?.json()).toEqual({ servers: ["surge-01"], failed: false });
});

test("what is only read is not sent again, and a line that stays down is told", async () => {
  const asked = line(new TypeError("broken"));
  await expect(take(api.GET("/api/v1/work", { baseUrl: base }))).rejects.toBeInstanceOf(Refused);
  expect(asked).toHaveLength(1);
});

test("a page says how long its list is", async () => {
  line(json([{ id: 1 }], { "X-Total-Count": "1991" }));
  expect((await takePage(api.GET("/api/v1/work", { baseUrl: base }))).total).toBe(1991);
});
