import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { api, type AuditEntry, type AuditPage, take } from "../api/client";
import { audit as auditQuery } from "./queries";
import { clock, count, day } from "../shell/format";
import { Act } from "../ui/Act";
import { Notice } from "../ui/Notice";
import { Split } from "../ui/Split";
import { Table } from "../ui/Table";
import { Tag } from "../ui/Tag";
import { Mono, Title } from "../ui/text";
import { useAddress } from "../shell/selection";
import { FILTERS, type Filter, tellFacts } from "./trail";
import { Block, Row, Stack, Text } from "../ui/layout";

/** Who did what, when, from where, with what result; and whether that is still what was written. */
export function AuditTrail() {
  const [params, changeAddress] = useAddress();
  const [before, setBefore] = useState<number[]>([]);
  const asked = Object.fromEntries(
    FILTERS.flatMap((name) => (params.get(name) ? [[name, params.get(name) ?? ""]] : [])),
  );
  const { data, error } = useQuery(auditQuery(asked, before.at(-1) ?? null));
  const change = (name: Filter, value: string) => {
    setBefore([]);
    changeAddress({ [name]: value || null });
  };
  if (error)
    return (
      <Block p={3}>
        <Notice>{error.message}</Notice>
      </Block>
    );
  if (!data) return null;
  const last = data.entries.at(-1)?.number;
  return (
    <Split label="Audit trail" panel={<Proof page={data} />} width={320}>
      <Row gap={1.5} align="baseline" wrap>
        <Title>Audit trail</Title>
        <Text tone="quiet">
          {data.total} {data.total === 1 ? "entry" : "entries"}
        </Text>
        <Row ml="auto" gap={1}>
          <Button
            variant="outlined"
            href={`/api/v1/exports/audit.csv?${new URLSearchParams({ ...asked, for: "spreadsheet" }).toString()}`}
            download="audit.csv"
          >
            For a spreadsheet (CSV)
          </Button>
          <Button variant="outlined" href="/api/v1/exports/audit.json" download="audit.json">
            Whole, to be checked (JSON)
          </Button>
        </Row>
      </Row>
      <Narrow page={data} asked={asked} change={change} />
      <Entries entries={data.entries} />
      <Row gap={1} mt={1}>
        {before.length > 0 && (
          <Button variant="outlined" onClick={() => setBefore(before.slice(0, -1))}>
            Newer
          </Button>
        )}
        {last !== undefined && last > 1 && data.entries.length >= 50 && (
          <Button variant="outlined" onClick={() => setBefore([...before, last])}>
            Older
          </Button>
        )}
      </Row>
    </Split>
  );
}

function Narrow({
  page,
  asked,
  change,
}: {
  page: AuditPage;
  asked: Record<string, string>;
  change: (name: Filter, value: string) => void;
}) {
  const choose = (name: Filter, label: string, values: string[]) => (
    <TextField
      select
      size="small"
      label={label}
      value={values.includes(asked[name] ?? "") ? asked[name] : ""}
      onChange={(e) => change(name, e.target.value)}
      sx={{ minWidth: 150 }}
    >
      <MenuItem value="">anything</MenuItem>
      {values.map((value) => (
        <MenuItem key={value} value={value}>
          {value}
        </MenuItem>
      ))}
    </TextField>
  );
  return (
    <Row role="search" aria-label="Narrow the trail" gap={1} wrap my={1.25}>
      {choose("who", "Person", page.people)}
      {choose("command", "What was done", page.commands)}
      {choose("result", "Result", ["done", "refused", "failed"])}
      <TextField
        size="small"
        label="Server"
        value={asked.server ?? ""}
        onChange={(e) => change("server", e.target.value)}
        sx={{ width: 140 }}
      />
      <TextField
        size="small"
        label="Run"
        value={asked.run ?? ""}
        onChange={(e) => change("run", e.target.value.replace(/\D/g, ""))}
        sx={{ width: 90 }}
        slotProps={{ htmlInput: { inputMode: "numeric" } }}
      />
    </Row>
  );
}

function Entries({ entries }: { entries: AuditEntry[] }) {
  if (!entries.length)
    return (
      <Text tone="quiet" py={2}>
        Nothing of that stands on the trail.
      </Text>
    );
  return (
    <Table aria-label="Entries" framed>
      <thead>
        <tr>
          <th scope="col" className="n">
            No.
          </th>
          <th scope="col">When</th>
          <th scope="col">Who</th>
          <th scope="col">What</th>
          <th scope="col">Of what</th>
          <th scope="col">Told with it</th>
        </tr>
      </thead>
      <tbody>
        {entries.map((e) => (
          <EntryRow key={e.number} entry={e} />
        ))}
      </tbody>
    </Table>
  );
}

function EntryRow({ entry: e }: { entry: AuditEntry }) {
  const at = new Date(e.at);
  const changed = Object.keys({ ...e.before, ...e.after }).length > 0;
  return (
    <tr>
      <td className="n">{e.number}</td>
      <td style={{ whiteSpace: "nowrap" }}>
        {day(at)}, {clock(at, true)}
      </td>
      <td>
        <strong>{e.who || "nobody signed in"}</strong>
        <Text tone="quiet" size="note">
          {e.where}
        </Text>
      </td>
      <td>
        {e.command} {e.result !== "done" && <Tag tone="deep">{e.result}</Tag>}
        {e.detail && (
          <Text size="note" maxWidth={280} breaks>
            {e.detail}
          </Text>
        )}
      </td>
      <td>
        <Block maxWidth={200} breaks>
          {tellFacts(e.on)}
        </Block>
      </td>
      <td>
        <Text maxWidth={380} breaks size="note">
          {changed ? (
            <>
              {Object.keys(e.before).length > 0 && (
                <>
                  {tellFacts(e.before)} <span aria-label="became">→</span>{" "}
                </>
              )}
              {tellFacts(e.after)}
            </>
          ) : (
            tellFacts(e.asked, true)
          )}
        </Text>
      </td>
    </tr>
  );
}

/** Whether the trail is whole, and the links that were signed and given out. */
function Proof({ page }: { page: AuditPage }) {
  const queries = useQueryClient();
  const check = useMutation({ mutationFn: () => take(api.GET("/api/v1/audit/check")) });
  const sign = useMutation({
    mutationFn: () => take(api.POST("/api/v1/audit/heads")),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["audit"] }),
  });
  return (
    <Stack gap={1.5} start size="body">
      <Title level={2}>Is it whole?</Title>
      <Text tone="quiet">
        Each entry carries the one before it in its checksum. The newest is signed daily and at each
        run&rsquo;s end: what was changed, cut or moved since is found, also elsewhere with{" "}
        <Mono>ordnung audit verify</Mono>.
      </Text>
      <Box>
        <Button variant="contained" onClick={() => check.mutate()} loading={check.isPending}>
          Check all of it
        </Button>
      </Box>
      {check.data &&
        (check.data.faults.length ? (
          <Notice title="It is not what was written">
            {check.data.faults.map((f) => (
              <div key={f}>{f}</div>
            ))}
          </Notice>
        ) : (
          <Text role="status" tone="done">
            Whole: {check.data.entries} entries, {count(check.data.heads, "signed link")}.
          </Text>
        ))}
      {(check.error ?? sign.error) && <Notice>{(check.error ?? sign.error)?.message}</Notice>}
      <Title level={3}>Signed and given out</Title>
      {page.heads.length === 0 && <Text tone="quiet">Nothing yet.</Text>}
      <Block as="ul" aria-label="Signed links" m={0} p={0} plain>
        {page.heads.map((h) => (
          <Block as="li" key={h.number} py={0.5} under>
            Entry {h.number}, {day(new Date(h.at))} {clock(new Date(h.at))}
            <Text size="note" tone="quiet">
              {h.why}; <Mono>{h.link.slice(0, 16)}…</Mono>
            </Text>
          </Block>
        ))}
      </Block>
      <Box>
        <Act takes="keep" variant="outlined" onClick={() => sign.mutate()} loading={sign.isPending}>
          Sign it now
        </Act>
      </Box>
      <Text size="note">
        Public key of this site
        <Block breaks>
          <Mono>{page.key}</Mono>
        </Block>
      </Text>
    </Stack>
  );
}
