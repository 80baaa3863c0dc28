import createClient, { type Middleware } from "openapi-fetch";

import type { components, paths } from "./schema";

// The shapes of the API by the names that are used here; what each is, and each of its fields, says docs/openapi.json,
// from which they are generated.
type Schemas = components["schemas"];
export type Me = Schemas["Me"];
export type Right = Me["rights"][number];
export type Person = Schemas["Person"];
export type AuditEntry = Schemas["AuditEntry"];
export type AuditPage = Schemas["AuditPage"];
export type Server = Schemas["Server"];
export type ServerDetail = Schemas["ServerDetail"];
export type FloorColumns = Schemas["Floor"];
export type Group = Schemas["Group"];
export type Away = Schemas["Away"];
export type Search = Schemas["SearchState"];
export type SearchRow = Schemas["Found"];
export type Added = Schemas["Added"];
export type Reading = Schemas["Reading"];
export type Changes = Schemas["Changes"];
export type Lost = Schemas["Lost"];
export type Component = Schemas["Component"];
export type Cell = Schemas["Cell"];
export type Work = Schemas["Work"];
export type Site = Schemas["Site"];
export type Run = Schemas["Run"];
export type RunSummary = Schemas["RunSummary"];
export type RunServer = Schemas["RunServer"];
export type WayBack = Schemas["RollbackOptions"]["ways"][number];
export type Reversal = Schemas["Reversal"];
export type Order = Schemas["RunOrderRequest"]["order"];
export type Forecast = Schemas["Forecast"];
export type RunRecord = Schemas["Record"];
export type MonthsData = Schemas["Months"];
export type RecordServer = Schemas["RecordServer"];
export type Span = Schemas["Span"];
export type Repository = Schemas["Repository"];
export type RepositoryHead = Schemas["RepositoryHead"];
export type Packing = Schemas["Packing"];
export type Trim = Schemas["Trim"];
export type Offer = Schemas["Offer"];
export type Loss = Schemas["Loss"];
export type Written = Schemas["Written"];
export type Arrival = Schemas["Arrival"];
export type Upload = Schemas["Upload"];
export type SealState = Schemas["SealState"];
export type Line = Schemas["Line"];
export type ReleaseLineData = Schemas["ReleaseLine"];
export type ReleaseData = Schemas["Release"];
export type Baseline = Schemas["Baseline"];
export type Issue = Schemas["Issue"];
export type CoverageRow = Schemas["Coverage"];
export type RuleRow = Schemas["Rule"];
export type BaselineLine = Schemas["BaselineLine"];
export type Follow = Schemas["Follow"];
export type Effect = Schemas["Effect"];
export type DraftEffect = Schemas["DraftEffect"];
export type Revision = Schemas["Revision"];
export type Source = Schemas["Source"];
export type Drift = Schemas["Drift"];
export type Fold = Schemas["Fold"];
export type Choice = Schemas["Choice"];
export type Advisory = Schemas["Advisory"];
export type Concern = Schemas["Concern"];
export type Review = Schemas["Review"];
export type Step = Schemas["Step"];
export type Carried = Schemas["Carried"];
export type BroughtIn = Schemas["BroughtIn"];
export type Call = Schemas["Call"];
export type Hook = Schemas["Hook"];
export type HookChange = Schemas["HookChangeRequest"];
export type House = Schemas["House"];
export type HouseChange = Schemas["HouseChangeRequest"];
export type MaintenanceWindow = Schemas["Window"];
export type WindowChange = Schemas["WindowChangeRequest"];
export type Opening = Schemas["Opening"];
export type SheetChange = Schemas["PatchedSheetChangeRequest"];
export type SheetTrial = Schemas["SheetTrialRequest"];
export type Tried = Schemas["Tried"];
export type Wave = Schemas["Wave"];
export type SheetCheck = Schemas["Check"];
export type Failure = Schemas["Failure"];

/** What the server answers when it refuses: RFC 9457. */
export interface Problem {
  type: string;
  title: string;
  status: number;
  detail: string;
  field?: string;
  faults?: { place: string; what: string }[];
}

/** A refusal of the server, with the problem as it told it. */
export class Refused extends Error {
  constructor(readonly problem: Problem) {
    super(problem.detail);
  }
}

let token = "";
/** The CSRF token that every write has to carry; it comes with /me and with the sign-in. */
export const setToken = (value: string): void => {
  token = value;
};

const newKey = (): string =>
  Array.from(crypto.getRandomValues(new Uint8Array(16)), (byte) => byte.toString(16).padStart(2, "0")).join(
    "",
  );
const AGAIN_MS = 1500;

/** As `fetch`; what has a key of its own is sent once more when the line broke: it is answered again, not done again. */
async function patiently(request: Request): Promise<Response> {
  const again = request.headers.has("Idempotency-Key") ? request.clone() : null;
  try {
    return await fetch(request);
  } catch (error) {
    if (!again) throw error;
    await new Promise((done) => setTimeout(done, AGAIN_MS));
    return fetch(again);
  }
}

const guard: Middleware = {
  onRequest({ request }) {
    if (request.method !== "GET") request.headers.set("X-CSRFToken", token);
    if (request.method === "POST") request.headers.set("Idempotency-Key", newKey());
    return request;
  },
};

/** The API by the types of its contract. */
export const api = createClient<paths>({ baseUrl: "/", credentials: "same-origin", fetch: patiently });
api.use(guard);

const isProblem = (value: unknown): value is Problem =>
  typeof value === "object" && value !== null && "detail" in value && "status" in value;

/** The data of an answer, or a `Refused` with the problem; a lost connection becomes one too. */
export async function take<T>(
  answer: Promise<{ data?: T; error?: unknown; response: Response }>,
): Promise<T> {
  let result;
  try {
    result = await answer;
  } catch {
    throw new Refused({
      type: "ordnung:offline",
      title: "offline",
      status: 0,
      detail: "Ordnung does not answer. What runs on servers goes on; this page tries again by itself.",
    });
  }
  if (result.response.ok) return result.data as T;
  const told = isProblem(result.error)
    ? result.error
    : {
        type: "ordnung:error",
        title: "error",
        status: result.response.status,
        detail: `The server answered ${result.response.status}.`,
      };
  throw new Refused(told);
}

/** A page of a list, and how long the list is in all. */
export interface Page<T> {
  rows: T[];
  total: number;
}

/** As `take`, of a list in pages. */
export async function takePage<T>(
  answer: Promise<{ data?: T[]; error?: unknown; response: Response }>,
): Promise<Page<T>> {
  const rows = await take(answer);
  return { rows, total: Number((await answer).response.headers.get("X-Total-Count") ?? rows.length) };
}

/** Send a piece of a file as it is. */
export async function sendPiece<T>(path: string, piece: Blob, span: string): Promise<T> {
  const headers = { "X-CSRFToken": token, "Content-Type": "application/octet-stream", "Content-Range": span };
  const response = await fetch(path, { method: "PUT", body: piece, headers, credentials: "same-origin" });
  return readAnswer<T>(response);
}

/** Send a file; openapi-fetch would spell it as JSON. */
export async function sendFile<T>(
  path: string,
  file: File,
  extra: Record<string, string | File> = {},
): Promise<T> {
  const form = new FormData();
  form.set("file", file);
  for (const [name, value] of Object.entries(extra)) form.set(name, value);
  const response = await fetch(path, {
    method: "POST",
    body: form,
    headers: { "X-CSRFToken": token },
    credentials: "same-origin",
  });
  return readAnswer<T>(response);
}

async function readAnswer<T>(response: Response): Promise<T> {
  const body: unknown = await response.json().catch(() => null);
  if (response.ok) return body as T;
  throw new Refused(
    isProblem(body)
      ? body
      : {
          type: "ordnung:error",
          title: "error",
          status: response.status,
          detail: `The server answered ${response.status}.`,
        },
  );
}
