import { beforeEach, expect, test, vi } from "vitest";

import { asKept, fetchKept, IN_ADDRESS, isKnown, readNames, shortName, spell } from "./kept";

const many = (n: number, stem = "server") => Array.from({ length: n }, (_, i) => `${stem}-${i}`);

interface Sent {
  method: string;
  name: string;
  servers: string[] | undefined;
}
const line = vi.hoisted(() => ({ sent: [] as Sent[], answers: [] as (string[] | null)[] }));

/** What was asked goes into `line.sent`; an answer of null is a refusal. */
vi.mock("../api/client", async (real) => {
  const ask = (method: string) => (_: string, of: Asked) => {
    line.sent.push({ method, name: of.params.path.name, servers: of.body?.servers });
    const next = line.answers.shift();
    const gone = { status: 404, detail: "It is gone.", type: "x", title: "x" };
    return Promise.resolve({
      data: next === null ? undefined : { servers: next ?? of.body?.servers },
      error: next === null ? gone : undefined,
      response: new Response(null, { status: next === null ? 404 : 200 }),
    });
  };
  return { ...(await real<object>()), api: { GET: ask("GET"), PUT: ask("PUT") } };
});

interface Asked {
  params: { path: { name: string } };
  body?: { servers: string[] };
}

beforeEach(() => {
  line.sent = [];
  line.answers = [];
});

test("a few names stand in the address, none is nothing, many are a short name", () => {
  expect(spell([])).toBe("");
  expect(spell(["a", "b"])).toBe("a,b");
  expect(spell(many(IN_ADDRESS)).split(",")).toHaveLength(IN_ADDRESS);
  const said = spell(many(10_000));
  expect(said).toMatch(/^@[0-9a-z]{8}$/);
  expect(readNames(said)).toEqual(many(10_000));
});

test("the same names are said the same way, in another order another way", () => {
  const names = many(40, "again");
  expect(spell([...names])).toBe(spell(names));
  expect(spell([...names].reverse())).not.toBe(spell(names));
});

test("names of servers are never taken for a short name", () => {
  expect(shortName("surge-01,surge-02")).toBeNull();
  expect(shortName(null)).toBeNull();
  expect(readNames("surge-01,surge-02")).toEqual(["surge-01", "surge-02"]);
  expect(readNames("")).toEqual([]);
});

test("a selection is sent once, before what needs it; few names need no sending", async () => {
  const said = spell(many(50, "once"));
  expect(await Promise.all([asKept(said), asKept(said)])).toEqual([said, said]);
  await asKept("a,b");
  expect(line.sent).toEqual([{ method: "PUT", name: shortName(said), servers: many(50, "once") }]);
});

test("what did not get there is sent again when it is needed", async () => {
  const said = spell(many(60, "lost"));
  line.answers = [null];
  await expect(asKept(said)).rejects.toThrow("It is gone.");
  await asKept(said);
  expect(line.sent).toHaveLength(2);
});

test("a short name from elsewhere is fetched, and is not sent back", async () => {
  line.answers = [many(30, "theirs")];
  expect(isKnown("k3x9")).toBe(false);
  expect(readNames("@k3x9")).toEqual([]);
  await fetchKept("k3x9");
  expect(readNames("@k3x9")).toEqual(many(30, "theirs"));
  expect(spell(many(30, "theirs"))).toBe("@k3x9");
  await asKept("@k3x9");
  expect(line.sent.map((s) => s.method)).toEqual(["GET"]);
});

test("a tab that is reloaded before the server has it knows it again, and sends it", async () => {
  const stored = new Map<string, string>();
  const setItem = (key: string, value: string) => void stored.set(key, value);
  vi.stubGlobal("sessionStorage", { setItem, getItem: (key: string) => stored.get(key) ?? null });
  const said = spell(many(70, "tab"));
  vi.resetModules();
  const anew = await import("./kept");
  expect(anew.readNames(said)).toEqual([]);
  anew.recall();
  expect(anew.readNames(said)).toEqual(many(70, "tab"));
  await anew.asKept(said);
  expect(line.sent).toHaveLength(1);
  vi.unstubAllGlobals();
});

test("one that is kept no longer is refused, not taken for none", async () => {
  line.answers = [null];
  await expect(fetchKept("gone")).rejects.toThrow("It is gone.");
  expect(isKnown("gone")).toBe(false);
});
