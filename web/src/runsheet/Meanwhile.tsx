// What may have to be done meanwhile: plan anew who was read otherwise, end a window later.
import TextField from "@mui/material/TextField";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { api, type Run, take } from "../api/client";
import { clock, count, day } from "../shell/format";
import { Act } from "../ui/Act";
import { Block, Row, Text } from "../ui/layout";
import { Notice } from "../ui/Notice";
import { Section } from "../ui/Section";
import { nextTime } from "./WhatIf";

const TOLD = 4;

/** Servers that are no longer what the sheet was made for, and the way to plan them anew. */
export function Stale({ run }: { run: Run }) {
  const queries = useQueryClient();
  const again = useMutation({
    mutationFn: () =>
      take(api.POST("/api/v1/runs/{id}/sheet/plan-again", { params: { path: { id: run.id } } })),
    onSuccess: ({ run: fresh }) => queries.setQueryData(["run", run.id], fresh),
  });
  return (
    <Notice title={`${count(run.stale.length, "server")} changed since the sheet was made`}>
      {run.stale.slice(0, TOLD).map((row) => (
        <Text key={row.server} size="body">
          <strong>{row.server}</strong>: {row.why}.
        </Text>
      ))}
      {run.stale.length > TOLD && <Text size="body">and {run.stale.length - TOLD} more.</Text>}
      {again.error && <Text size="body">{again.error.message}</Text>}
      <Block mt={0.75}>
        <Act takes="plan" variant="outlined" loading={again.isPending} onClick={() => again.mutate()}>
          Plan them again
        </Act>
      </Block>
    </Notice>
  );
}

/** The window of a run under way, and putting its end later: what is half way may then go on. */
export function WindowEnd({ run }: { run: Run }) {
  const [time, tell] = useState("");
  const last = run.windows.at(-1);
  const later = useMutation({
    mutationFn: (until: string) =>
      take(api.POST("/api/v1/runs/{id}/window", { params: { path: { id: run.id } }, body: { until } })),
    onSuccess: () => tell(""),
  });
  if (!last) return null;
  const ends = new Date(last.end);
  const until = time ? nextTime(ends, time) : null;
  return (
    <Section title="Window">
      <Text size="body" mt={0.5}>
        It ends {day(ends)} {clock(ends)}. Nothing is reset after that, and nobody begins who would not be
        back.
      </Text>
      <Row gap={1} align="center" mt={1}>
        <TextField
          size="small"
          type="time"
          label="End it later, at"
          value={time}
          onChange={(e) => tell(e.target.value)}
          slotProps={{ inputLabel: { shrink: true } }}
        />
        <Act
          takes="run"
          variant="outlined"
          why={until ? null : "Say until when."}
          loading={later.isPending}
          onClick={() => until && later.mutate(until.toISOString())}
        >
          End it then
        </Act>
      </Row>
      {later.error && <Notice>{later.error.message}</Notice>}
    </Section>
  );
}
