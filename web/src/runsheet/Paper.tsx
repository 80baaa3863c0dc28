import Button from "@mui/material/Button";
import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";

import { api, type Run, take } from "../api/client";
import { me as meQuery, runs as runsQuery } from "../api/queries";
import { clock, count, day } from "../shell/format";
import { Act } from "../ui/Act";
import { Row, Stack, Text } from "../ui/layout";
import { Notice } from "../ui/Notice";
import { Section } from "../ui/Section";
import { Tag } from "../ui/Tag";
import { Mono } from "../ui/text";
import { compared as comparedQuery, revisions as revisionsQuery } from "./queries";

/** The sheet as a document: who approves it, how it came about, giving it out, copying and comparing it. */
export function Paper({ run }: { run: Run }) {
  return (
    <Stack gap={2} start>
      <Approval run={run} />
      <GiveOut run={run} />
      <Revisions run={run} />
      <Compared run={run} />
    </Stack>
  );
}

const when = (at: string): string => `${day(new Date(at))} ${clock(new Date(at))}`;

/** Who has approved it, whether that still holds, and the act itself. */
export function Approval({ run }: { run: Run }) {
  const { data: me } = useQuery(meQuery);
  const queries = useQueryClient();
  const path = { params: { path: { id: run.id } } };
  const settled = { onSuccess: (fresh: Run) => queries.setQueryData(["run", run.id], fresh) };
  const approve = useMutation({
    mutationFn: () =>
      take(api.POST("/api/v1/runs/{id}/sheet/approval", { ...path, body: { sha256: run.sha256 } })),
    ...settled,
  });
  const takeBack = useMutation({
    mutationFn: () => take(api.DELETE("/api/v1/runs/{id}/sheet/approval", path)),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["run", run.id] }),
  });
  const isDraft = run.state === "draft";
  const own = run.approvals.find((a) => a.by === me?.name && a.holds);
  const why = me?.name === run.drafted_by ? "You drafted it: somebody else approves it." : null;
  const trouble = approve.error ?? takeBack.error;
  return (
    <Section title="Approval">
      <Text size="body" mt={0.5}>
        {run.approvals.length
          ? ""
          : run.wants_approval
            ? "This house wants a second person to approve it before it starts."
            : isDraft
              ? "Nobody has to approve it in this house; whoever may can."
              : "Nobody approved it."}
      </Text>
      <Stack as="ul" plain m={0} p={0} gap={0.5}>
        {run.approvals.map((a) => (
          <Text as="li" key={a.by + a.revision} size="body">
            <Tag tone={a.holds ? "done" : "pending"}>{a.holds ? "holds" : "no longer holds"}</Tag> {a.by},{" "}
            {when(a.at)}, revision {a.revision}
            {!a.holds && `; changed since: ${a.since}`}
          </Text>
        ))}
      </Stack>
      {isDraft && (
        <Row gap={1} mt={1}>
          {own ? (
            <Act
              takes="approve"
              variant="outlined"
              loading={takeBack.isPending}
              onClick={() => takeBack.mutate()}
            >
              Take my approval back
            </Act>
          ) : (
            <Act
              takes="approve"
              variant="outlined"
              why={why}
              loading={approve.isPending}
              onClick={() => approve.mutate()}
            >
              Approve as it stands
            </Act>
          )}
        </Row>
      )}
      {trouble && <Notice>{trouble.message}</Notice>}
    </Section>
  );
}

function GiveOut({ run }: { run: Run }) {
  const navigate = useNavigate();
  const copy = useMutation({
    mutationFn: () => take(api.POST("/api/v1/runs/{id}/sheet/copy", { params: { path: { id: run.id } } })),
    onSuccess: (fresh) => void navigate(`/run-sheet/${fresh.id}`),
  });
  return (
    <Section title="Take it along">
      <Row gap={1} wrap mt={0.75}>
        <Button variant="outlined" onClick={() => window.print()}>
          Print
        </Button>
        <Button variant="outlined" component="a" href={`/api/v1/exports/sheets/${run.id}.json`} download>
          Sheet with approvals
        </Button>
        <Button variant="outlined" component="a" href={`/api/v1/exports/sheets/${run.id}.csv`} download>
          Table of steps
        </Button>
        <Act takes="plan" variant="outlined" loading={copy.isPending} onClick={() => copy.mutate()}>
          Plan the same again
        </Act>
      </Row>
      <Text size="small" tone="quiet" mt={0.75}>
        Its sum is <Mono>{run.sha256.slice(0, 16)}</Mono>; <Mono>ordnung sheet check</Mono> verifies the file
        anywhere.
      </Text>
      {copy.error && <Notice>{copy.error.message}</Notice>}
    </Section>
  );
}

function Revisions({ run }: { run: Run }) {
  const { data = [] } = useQuery(revisionsQuery(run));
  return (
    <Section title="How it came about">
      <Stack as="ol" plain m={0} mt={0.5} p={0} gap={0.25}>
        {data.map((r) => (
          <Text as="li" key={r.number} size="small">
            <Mono dim>{r.number}</Mono> {when(r.at)}, {r.by}: {r.what}
          </Text>
        ))}
      </Stack>
    </Section>
  );
}

function Compared({ run }: { run: Run }) {
  const [other, choose] = useState("");
  const { data: all = [] } = useQuery(runsQuery);
  const { data } = useQuery(comparedQuery(run, Number(other)));
  const others = all.filter((r) => r.id !== run.id);
  if (!others.length) return null;
  return (
    <Section title="Compared">
      <TextField
        size="small"
        select
        fullWidth
        label="with another sheet"
        value={other}
        onChange={(e) => choose(e.target.value)}
        sx={{ mt: 1 }}
      >
        {others.map((r) => (
          <MenuItem key={r.id} value={String(r.id)}>
            {r.name}, {when(r.drafted_at)}
          </MenuItem>
        ))}
      </TextField>
      {other && data && (
        <Stack as="ul" plain m={0} mt={0.75} p={0} gap={0.5}>
          {!data.length && <Text as="li">They say the same.</Text>}
          {data.slice(0, MOST).map((d) => (
            <Text as="li" key={d.server + d.what} size="small">
              <strong>{d.server ? `${d.server}, ${d.what}` : d.what}</strong>: {d.after}
              <Text tone="quiet">there: {d.before}</Text>
            </Text>
          ))}
          {data.length > MOST && <Text as="li">and {count(data.length - MOST, "more difference")}</Text>}
        </Stack>
      )}
    </Section>
  );
}

const MOST = 60;
