import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import TextField from "@mui/material/TextField";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";

import { api, type Review as Data, type Step, take } from "../api/client";
import { review as reviewQuery } from "./queries";
import { count, duration, foldNames, size } from "../shell/format";
import { spell } from "../shell/kept";
import { Act } from "../ui/Act";
import { ActionBar } from "../ui/ActionBar";
import { Notice } from "../ui/Notice";
import { Tag } from "../ui/Tag";
import { Mono, Title } from "../ui/text";
import { Facts } from "../ui/Facts";
import { Block, Row, Stack, Text } from "../ui/layout";
import { Section } from "../ui/Section";

type Place = Step["places"][number];

/** What is chosen beforehand: the person reads it, takes things out with a reason, and sends the rest on. */
export function Review({ filters }: { filters: Record<string, string> }) {
  const { data, error } = useQuery(reviewQuery(filters));
  const queries = useQueryClient();
  const renew = () => queries.invalidateQueries({ queryKey: ["review"] });
  const out = useMutation({
    mutationFn: (told: { places: Place[]; reason: string }) =>
      take(api.POST("/api/v1/left-out", { body: told })),
    onSuccess: renew,
  });
  const back = useMutation({
    mutationFn: (places: Place[]) => take(api.POST("/api/v1/left-out/put-back", { body: { places } })),
    onSuccess: renew,
  });
  if (error) return <Notice>{error.message}</Notice>;
  if (!data) return null;
  return (
    <Stack gap={1.5} start>
      <Box>
        <Title level={2}>Chosen beforehand</Title>
        <Text tone="quiet" size="small">
          Everything that is off the baseline and has a way. Take out what should stay as it is.
        </Text>
      </Box>
      <Cost data={data} />
      <Send data={data} filters={filters} />
      {(out.error ?? back.error) && <Notice>{(out.error ?? back.error)?.message}</Notice>}
      <Block as="ul" aria-label="Steps chosen" m={0} p={0} plain>
        {data.steps.map((s) => (
          <Line
            key={`${s.product} ${s.before} ${s.after}`}
            step={s}
            takeOut={(reason) => out.mutate({ places: s.places, reason })}
          />
        ))}
      </Block>
      {data.left_out.length > 0 && <LeftOut data={data} putBack={(places) => back.mutate(places)} />}
    </Stack>
  );
}

function Cost({ data: { cost } }: { data: Data }) {
  const rows: [string, string][] = [
    ["servers", String(cost.servers)],
    ["updates to write", String(cost.writes)],
    ["reboots", String(cost.reboots)],
    ["power cycles", String(cost.power_cycles)],
    ["controller restarts", String(cost.restarts)],
    ["to carry", cost.bytes ? size(cost.bytes) : "nothing"],
    ["longest server", cost.longest_seconds ? duration(cost.longest_seconds) : "–"],
  ];
  return (
    <Text size="body">
      <Facts
        label="What it costs"
        numbers
        rows={rows.map(([label, value]) => [label, <Mono key={label}>{value}</Mono>])}
      />
      {cost.barred.map((line) => (
        <Text key={line} mt={0.5} tone="deep" size="small">
          {line}
        </Text>
      ))}
    </Text>
  );
}

/** From here to the run sheet or the repository, with the servers that are left. */
function Send({ data, filters }: { data: Data; filters: Record<string, string> }) {
  const navigate = useNavigate();
  const names = [...new Set(data.steps.flatMap((s) => s.places.map((p) => p.server)))].sort();
  const why = names.length ? null : "Nothing is left to do here.";
  const whole = Object.keys(filters).length === 0;
  const go = (place: string) => void navigate(`${place}?new=1${whole ? "" : `&servers=${spell(names)}`}`);
  return (
    <ActionBar>
      <Act takes="plan" variant="contained" why={why} onClick={() => go("/run-sheet")}>
        Plan a run for {names.length}
      </Act>
      <Act takes="plan" variant="outlined" why={why} onClick={() => go("/repository")}>
        Pack
      </Act>
    </ActionBar>
  );
}

function Line({ step: s, takeOut }: { step: Step; takeOut: (reason: string) => void }) {
  const [asking, ask] = useState(false);
  const [reason, setReason] = useState("");
  const servers = [...new Set(s.places.map((p) => p.server))];
  return (
    <Text as="li" ruled py={0.75} size="body">
      <Row gap={1} align="baseline">
        <strong>{s.name}</strong>
        {s.importance === "security" && <Tag tone="deep">{s.score ? `score ${s.score}` : "security"}</Tag>}
        {!asking && (
          <Act
            takes="plan"
            variant="text"
            size="inline"
            color="secondary"
            sx={{ ml: "auto" }}
            aria-label={`Take out ${s.name} ${s.before} to ${s.after}`}
            onClick={() => ask(true)}
          >
            take out
          </Act>
        )}
      </Row>
      <Box>
        <Mono>{s.before || "?"}</Mono> →{" "}
        {s.via.map((v) => (
          <span key={v}>
            <Mono dim>{v}</Mono> →{" "}
          </span>
        ))}
        <Mono>{s.after}</Mono>
      </Box>
      <Text tone="quiet">
        {count(s.places.length, "component")} in {foldNames(servers)}
        {servers.length > 3 ? ` (${servers.length})` : ""}
      </Text>
      {asking && (
        <Stack
          as="form"
          gap={0.75}
          mt={0.75}
          onSubmit={(e) => {
            e.preventDefault();
            if (reason.trim()) takeOut(reason);
          }}
        >
          <TextField
            size="small"
            autoFocus
            label="Why does it stay as it is?"
            value={reason}
            onChange={(e) => setReason(e.target.value)}
          />
          <ActionBar>
            <Act
              type="submit"
              variant="contained"
              why={reason.trim() ? null : "Say why: whoever comes next has to know."}
            >
              Take out
            </Act>
            <Button variant="outlined" onClick={() => ask(false)}>
              Leave it in
            </Button>
          </ActionBar>
        </Stack>
      )}
    </Text>
  );
}

/** What was taken out before, by whom and why; it stays out until it is put back. */
function LeftOut({ data, putBack }: { data: Data; putBack: (places: Place[]) => void }) {
  const groups = new Map<string, Data["left_out"]>();
  for (const item of data.left_out)
    groups.set(`${item.reason}|${item.by}`, [...(groups.get(`${item.reason}|${item.by}`) ?? []), item]);
  return (
    <Section title="Taken out" level={3}>
      <Text as="ul" aria-label="Taken out" m={0} p={0} plain size="small">
        {[...groups.values()].map((items) => (
          <Block as="li" key={`${items[0]?.reason} ${items[0]?.by}`} ruled py={0.5}>
            {foldNames([...new Set(items.map((i) => i.server))])}:{" "}
            <Mono dim>{[...new Set(items.map((i) => i.slot))].slice(0, 4).join(", ")}</Mono>
            <Text tone="quiet">
              “{items[0]?.reason}”, {items[0]?.by}, {items[0]?.at.slice(0, 10)}
            </Text>
            <Act
              takes="plan"
              variant="text"
              size="inline"
              color="secondary"
              onClick={() => putBack(items.map(({ server, slot }) => ({ server, slot })))}
            >
              Put back in
            </Act>
          </Block>
        ))}
      </Text>
    </Section>
  );
}
