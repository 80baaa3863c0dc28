import Checkbox from "@mui/material/Checkbox";
import FormControlLabel from "@mui/material/FormControlLabel";
import Link from "@mui/material/Link";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link as RouterLink } from "react-router";

import { api, type Call, take } from "../api/client";
import { beLoud, calls, dueOf, isLoud } from "../shell/calls";
import { ago, count } from "../shell/format";
import { Tick } from "../shell/Tick";
import { useSiteNow } from "../shell/time";
import { Act } from "../ui/Act";
import { EmptyPlace } from "../ui/EmptyPlace";
import { Block, Row, Stack, Text } from "../ui/layout";
import { Tag, type Tone } from "../ui/Tag";
import { Title } from "../ui/text";
import { stopsOf } from "./by-rack";

const KINDS: Record<Call["kind"], { word: string; tone: Tone }> = {
  tick: { word: "to do", tone: "water" },
  refused: { word: "refused", tone: "pending" },
  question: { word: "asks", tone: "pending" },
  gate: { word: "gate", tone: "water" },
  failed: { word: "failed", tone: "deep" },
  reboot: { word: "waits for a reboot", tone: "pending" },
  coming: { word: "later", tone: "rule" },
};

/** What needs a person, rack by rack: made to be held in one hand in an aisle. */
export function CallsPlace() {
  const { data } = useQuery(calls);
  const now = useSiteNow();
  if (!data) return null;
  const due = dueOf(data);
  const coming = data.filter((row) => row.kind === "coming");
  if (!data.length)
    return (
      <EmptyPlace drawing="racks" title="Nothing needs a person">
        While a run is under way, what it waits for stands here by rack and unit: something to do at a server,
        work to move off or take back, a gate, a question, a failure. It stays until it is answered.
        <Block mt={1}>
          <Aloud />
        </Block>
      </EmptyPlace>
    );
  return (
    <Block px={2} py={1.5} maxWidth={720}>
      <Row wrap between align="baseline" gap={1}>
        <Title>
          {due.length ? `${count(due.length, "call")} for a person` : "Nothing needs a person now"}
        </Title>
        <Aloud />
      </Row>
      <Stops rows={due} now={now} />
      {coming.length > 0 && (
        <Block as="section" mt={2.5} aria-label="Later">
          <Title level={2}>Later tonight</Title>
          <Text tone="quiet" size="body">
            At servers still to come. Each is asked for when it is due.
          </Text>
          <Stops rows={coming} now={now} />
        </Block>
      )}
    </Block>
  );
}

function Stops({ rows, now }: { rows: readonly Call[]; now: number }) {
  return stopsOf(rows).map((stop) => (
    <Block as="section" key={stop.where} mt={2} aria-label={stop.where || "At no server"}>
      {stop.where && <Title level={2}>{stop.where}</Title>}
      <Stack as="ul" plain m={0} p={0}>
        {stop.calls.map((call) => (
          <One key={call.id} call={call} now={now} />
        ))}
      </Stack>
    </Block>
  ));
}

function One({ call, now }: { call: Call; now: number }) {
  const { word, tone } = KINDS[call.kind];
  const sheet = `/run-sheet/${call.run}${call.server ? `?lane=${encodeURIComponent(call.server)}` : ""}`;
  return (
    <Block as="li" ruled py={1.25}>
      <Row gap={1} align="baseline" wrap>
        {call.server && (
          <strong>
            {call.unit > 0 && `U${call.unit} `}
            {call.server}
          </strong>
        )}
        <Tag tone={tone}>{word}</Tag>
        <Text as="span" size="note" tone="quiet">
          {call.since && `${ago(call.since, now)}, `}
          <Link component={RouterLink} to={sheet}>
            {call.run_name}
          </Link>
        </Text>
      </Row>
      <Row gap={1} mt={0.5} align="baseline">
        <Block flex={1}>{call.text}</Block>
        {call.kind !== "coming" && <Seen call={call} />}
      </Row>
      {call.told && (
        <Text tone="quiet" size="body">
          {call.told}. Done by hand, it can be ticked here.
        </Text>
      )}
      {call.key && <Tick run={call.run} server={call.server} tickKey={call.key} />}
    </Block>
  );
}

function Seen({ call }: { call: Call }) {
  const queries = useQueryClient();
  const see = useMutation({
    mutationFn: () => take(api.POST("/api/v1/calls", { body: { call: call.id } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["calls"] }),
  });
  return (
    <Block ml="auto">
      {call.seen_by ? (
        <Text as="span" size="note" tone="quiet">
          seen by {call.seen_by}
        </Text>
      ) : (
        <Act
          takes="run"
          variant="text"
          loading={see.isPending}
          onClick={() => see.mutate()}
          aria-label={`Seen: ${call.server || call.run_name}`}
        >
          Seen
        </Act>
      )}
      {see.error && <Block role="alert">{see.error.message}</Block>}
    </Block>
  );
}

function Aloud() {
  const [loud, setLoud] = useState(isLoud);
  return (
    <FormControlLabel
      control={
        <Checkbox size="small" checked={loud} onChange={(e) => void beLoud(e.target.checked).then(setLoud)} />
      }
      label="Call aloud on this device"
    />
  );
}
