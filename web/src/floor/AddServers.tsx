import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Checkbox from "@mui/material/Checkbox";
import FormControlLabel from "@mui/material/FormControlLabel";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useRef, useState } from "react";

import { type Added, api, type Search, type SearchRow, take } from "../api/client";
import { search as searchQuery } from "./queries";
import { count } from "../shell/format";
import { Act } from "../ui/Act";
import { Notice } from "../ui/Notice";
import { Tag } from "../ui/Tag";
import { Mono, Title } from "../ui/text";
import { spell } from "../shell/kept";
import { useAddress } from "../shell/selection";
import { ActionBar } from "../ui/ActionBar";
import { Block, Row, Stack, Text } from "../ui/layout";
import { Field, InPlace, Unsaid } from "../ui/Field";

const BLANK = { addresses: "", list: "", user: "", password: "" };
type Fields = typeof BLANK;

/** Look first, then pick: nothing of the house changes before "Add". */
export function AddServers({ done }: { done: () => void }) {
  const [id, setId] = useState<number | null>(null);
  const [fields, setFields] = useState(BLANK);
  return (
    <Stack gap={1.5} start>
      <Row align="baseline">
        <Title level={2}>Add servers</Title>
        <Button variant="outlined" sx={{ ml: "auto" }} onClick={done}>
          Close
        </Button>
      </Row>
      {id === null ? (
        <Ask fields={fields} change={setFields} found={setId} />
      ) : (
        <Found id={id} fields={fields} again={() => setId(null)} />
      )}
    </Stack>
  );
}

/** A file as text; null when it is not UTF-8: what it is then is asked, never guessed. */
function asUtf8(raw: ArrayBuffer): string | null {
  try {
    return new TextDecoder("utf-8", { fatal: true }).decode(raw);
  } catch {
    return null;
  }
}

const asWindows = (raw: ArrayBuffer): string => new TextDecoder("windows-1252").decode(raw);

function Ask({
  fields,
  change,
  found,
}: {
  fields: Fields;
  change: (fields: Fields) => void;
  found: (id: number) => void;
}) {
  const file = useRef<HTMLInputElement>(null);
  const [odd, setOdd] = useState<ArrayBuffer | null>(null);
  const read = (raw: ArrayBuffer) => {
    const list = asUtf8(raw);
    setOdd(list === null ? raw : null);
    if (list !== null) change({ ...fields, list });
  };
  const look = useMutation({
    mutationFn: (listen: boolean) => take(api.POST("/api/v1/searches", { body: { ...fields, listen } })),
    onSuccess: (search) => found(search.id),
  });
  const set = (key: keyof Fields) => (event: { target: { value: string } }) =>
    change({ ...fields, [key]: event.target.value });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    look.mutate(false);
  };
  return (
    <Stack as="form" onSubmit={submit} gap={1.25}>
      {fields.list ? (
        <Text size="small">
          A list of {count(fields.list.trim().split("\n").length - 1, "row")} is chosen.{" "}
          <Button variant="text" onClick={() => change({ ...fields, list: "" })}>
            Leave it
          </Button>
        </Text>
      ) : (
        <Field
          field="addresses"
          refused={look.error}
          multiline
          minRows={4}
          label="Addresses of management controllers"
          value={fields.addresses}
          onChange={set("addresses")}
          helperText="One a line: 10.0.0.7, 10.0.0.7:8443, 10.0.0.10-10.0.0.40, 10.0.0.0/24 or a name."
        />
      )}
      <input
        ref={file}
        type="file"
        aria-label="List of servers"
        hidden
        accept=".csv,text/csv"
        onChange={(e) => {
          const chosen = e.target.files?.[0];
          if (chosen) void chosen.arrayBuffer().then(read);
          e.target.value = "";
        }}
      />
      {odd && (
        <Notice title="This list is not UTF-8">
          Spreadsheets in western Europe write Windows-1252. Read so, it begins with:
          <Text as="pre" m={0} my={0.5} size="fine" breaks>
            {asWindows(odd).split("\n").slice(0, 3).join("\n")}
          </Text>
          <Button
            variant="outlined"
            onClick={() => {
              change({ ...fields, list: asWindows(odd) });
              setOdd(null);
            }}
          >
            That is right: take it so
          </Button>{" "}
          <Button onClick={() => setOdd(null)}>Leave it</Button>
        </Notice>
      )}
      <ActionBar>
        <Button variant="outlined" onClick={() => file.current?.click()}>
          Choose a list (CSV)
        </Button>
        <Act
          takes="keep"
          variant="outlined"
          onClick={() => look.mutate(true)}
          loading={look.isPending && look.variables}
        >
          Search the network
        </Act>
      </ActionBar>
      <Box sx={{ display: "grid", gridTemplateColumns: "1fr 1fr", gap: 1 }}>
        <Field
          field="user"
          refused={look.error}
          label="Controller user"
          autoComplete="off"
          value={fields.user}
          onChange={set("user")}
        />
        <Field
          field="password"
          refused={look.error}
          label="Controller password"
          type="password"
          autoComplete="off"
          value={fields.password}
          onChange={set("password")}
        />
      </Box>
      <Text size="note" tone="quiet">
        They are sent only to controllers whose certificate is from the fleet's authority, kept encrypted, and
        never shown again.
      </Text>
      <Unsaid error={look.error} fields={["addresses", "user", "password"]} />
      <Box>
        <Act
          takes="keep"
          type="submit"
          variant="contained"
          loading={look.isPending && !look.variables}
          why={fields.addresses.trim() || fields.list ? null : "Give addresses or choose a list first."}
        >
          Look who is there
        </Act>
      </Box>
    </Stack>
  );
}

const STATES: Record<string, [string, "done" | "rule" | "pending" | "deep" | "water"]> = {
  asked: ["looking", "rule"],
  new: ["new", "done"],
  known: ["here already", "rule"],
  moved: ["has moved", "pending"],
  uncertain: ["can't be told", "deep"],
  double: ["the same again", "rule"],
  nobody: ["no server", "rule"],
  "wrong row": ["row is wrong", "deep"],
};
const takes = (row: SearchRow): boolean => (row.state === "new" || row.state === "moved") && !row.added;

function Found({ id, fields, again }: { id: number; fields: Fields; again: () => void }) {
  const { data } = useQuery({
    ...searchQuery(id),
    refetchInterval: (query) => (query.state.data?.is_done ? false : 1500),
  });
  if (!data) return null;
  return <Preview search={data} fields={fields} again={again} />;
}

function Preview({ search, fields, again }: { search: Search; fields: Fields; again: () => void }) {
  const queries = useQueryClient();
  const [, change] = useAddress();
  const [out, setOut] = useState<Set<number>>(new Set());
  const [names, setNames] = useState<Record<number, string>>({});
  const [trusts, setTrusts] = useState(false);
  const [whole, setWhole] = useState(false);
  const picked = search.rows.filter((row) => takes(row) && !out.has(row.id));
  const strangers = picked.filter((row) => !row.vouched);
  const add = useMutation({
    mutationFn: () =>
      take(
        api.POST("/api/v1/searches/{id}/add", {
          params: { path: { id: search.id } },
          body: {
            rows: picked.map((row) => ({ id: row.id, name: names[row.id] ?? "" })),
            accept: trusts ? strangers.map((row) => row.pin ?? "") : [],
            whole,
            user: fields.user,
            password: fields.password,
            read: true,
          },
        }),
      ),
    onSuccess: async (told: Added) => {
      await queries.invalidateQueries();
      change({
        servers: spell([...told.added, ...told.followed]) || null,
        add: told.refused.length ? "1" : null,
      });
    },
  });
  const flip = (row: number) =>
    setOut((old) => {
      const next = new Set(old);
      if (!next.delete(row)) next.add(row);
      return next;
    });
  const why = !search.is_done ? "Still looking." : picked.length ? null : "Nothing is picked.";
  return (
    <Stack gap={1.25}>
      <Text role="status" size="body">
        {search.is_done
          ? tally(search.rows)
          : `Looking at ${search.what}: ${search.rows.filter((r) => r.state !== "asked").length} of ${search.rows.length} so far`}
      </Text>
      <Block as="ul" aria-label="Found" m={0} p={0} plain>
        {[...search.rows]
          .sort((a, b) => rank(a) - rank(b) || a.line - b.line)
          .filter((row) => search.rows.length <= 12 || row.line > 0 || !QUIET.includes(row.state))
          .map((row) => (
            <FoundRow
              key={row.id}
              row={row}
              picked={takes(row) && !out.has(row.id)}
              flip={() => flip(row.id)}
              name={names[row.id] ?? row.name}
              rename={(name) => setNames({ ...names, [row.id]: name })}
              refused={add.data?.refused.find((r) => r.id === row.id)?.why}
            />
          ))}
      </Block>
      {strangers.length > 0 && (
        <FormControlLabel
          sx={{ alignItems: "flex-start" }}
          control={<Checkbox size="small" checked={trusts} onChange={(e) => setTrusts(e.target.checked)} />}
          label={`I have compared ${strangers.length === 1 ? "the fingerprint" : `these ${strangers.length} fingerprints`} with the controllers themselves: accept ${strangers.length === 1 ? "it" : "them"}`}
        />
      )}
      {search.rows.some((row) => row.line > 0) && (
        <FormControlLabel
          control={<Checkbox size="small" checked={whole} onChange={(e) => setWhole(e.target.checked)} />}
          label="All rows or none"
        />
      )}
      {add.error && <Notice>{add.error.message}</Notice>}
      <ActionBar>
        <Act takes="keep" variant="contained" why={why} loading={add.isPending} onClick={() => add.mutate()}>
          Add {count(picked.length, "server")} and read
        </Act>
        <Button variant="outlined" onClick={again}>
          Look elsewhere
        </Button>
      </ActionBar>
    </Stack>
  );
}

/** What needs no decision is only counted when there is much of it. */
const QUIET = ["nobody", "known", "asked"];
const rank = (row: SearchRow): number =>
  ["wrong row", "new", "moved", "double", "known", "asked", "nobody"].indexOf(row.state);

function tally(rows: SearchRow[]): string {
  const n = (state: string): number => rows.filter((row) => row.state === state).length;
  const parts: [number, string][] = [
    [n("new"), "new"],
    [n("moved"), "moved"],
    [n("known"), "here already"],
    [n("double"), "double"],
    [n("wrong row"), "wrong"],
    [n("nobody"), "without a server"],
  ];
  return `${count(rows.length, "address").replace("addresss", "addresses")}: ${
    parts
      .filter(([k]) => k)
      .map(([k, word]) => `${k} ${word}`)
      .join(", ") || "nobody answered"
  }`;
}

interface RowProps {
  row: SearchRow;
  picked: boolean;
  flip: () => void;
  name: string;
  rename: (name: string) => void;
  refused: string | undefined;
}

function FoundRow({ row, picked, flip, name, rename, refused }: RowProps) {
  const [word, tone] = STATES[row.state] ?? [row.state, "rule"];
  return (
    <Stack as="li" style={{ gridTemplateColumns: "26px 1fr auto" }} gap={0.75} py={0.75} ruled size="small">
      <Box>
        {takes(row) && <input type="checkbox" aria-label={`Add ${name}`} checked={picked} onChange={flip} />}
      </Box>
      <Block minWidth={0} breaks>
        {row.state === "new" && !row.added ? (
          <InPlace
            aria-label={`Name for ${row.url}`}
            value={name}
            onChange={(e: React.ChangeEvent<HTMLInputElement>) => rename(e.target.value)}
          />
        ) : (
          <strong>
            {row.added ?? row.known ?? (row.line ? `line ${row.line}` : row.url.replace("https://", ""))}
          </strong>
        )}
        <Text tone="quiet">
          {[row.url.replace("https://", ""), row.model, row.serial, row.place].filter(Boolean).join(", ")}
        </Text>
        {(row.faults.length > 0 || row.detail) && <Box>{row.faults.join("; ") || row.detail}</Box>}
        {row.pin && !row.vouched && row.state !== "known" && (
          <Text size="fine">
            The fleet's authority does not vouch for it: <Mono>{row.pin}</Mono>
          </Text>
        )}
        {refused && <Text tone="deep">{refused}</Text>}
      </Block>
      <Box>
        <Tag tone={row.added ? "done" : tone}>{row.added ? "added" : word}</Tag>
      </Box>
    </Stack>
  );
}
