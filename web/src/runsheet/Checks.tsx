import { useQuery } from "@tanstack/react-query";
import { useState } from "react";

import type { Run, SheetCheck } from "../api/client";
import { count, foldRuns } from "../shell/format";
import { Press } from "../ui/Press";
import { Stack, Text } from "../ui/layout";
import { Tag, type Tone } from "../ui/Tag";
import { Title } from "../ui/text";
import { checks as checksQuery } from "./queries";

const TONES: Record<SheetCheck["severity"], Tone> = {
  block: "deep",
  warn: "pending",
  note: "rule",
  pass: "done",
};
const WORDS: Record<SheetCheck["severity"], string> = {
  block: "stops",
  warn: "warns",
  note: "to know",
  pass: "fine",
};
const NAMES = 4;

/** Everything the checks find beforehand, what stops a server first; each is asked again at the server's turn. */
export function Checks({ run, pick }: { run: Run; pick: (server: string) => void }) {
  const { data } = useQuery(checksQuery(run));
  if (!data) return null;
  return (
    <Stack gap={1} start>
      <Title level={2}>Checks</Title>
      {!data.length && <Text size="body">Nothing speaks against it by what is known now.</Text>}
      <Stack as="ul" plain m={0} p={0} gap={1.25} aria-label="Checks">
        {data.map((row) => (
          <Finding key={row.check + row.severity + row.remedy} row={row} pick={pick} />
        ))}
      </Stack>
      <Text size="small" tone="quiet">
        By the last readings, the store and the record. Before each server&apos;s first write and before each
        of its resets it is read anew and asked again.
      </Text>
    </Stack>
  );
}

function Finding({ row, pick }: { row: SheetCheck; pick: (server: string) => void }) {
  const [first] = row.servers;
  const [isWhole, showAll] = useState(false);
  const most = isWhole ? Infinity : NAMES;
  const same = row.servers.every((s) => s.seen === first?.seen);
  const names = row.servers.map((s) => s.server);
  return (
    <Text as="li" size="body">
      <Tag tone={TONES[row.severity]}>{WORDS[row.severity]}</Tag> <strong>{row.check}</strong>,{" "}
      {count(names.length, "server")}
      {same && first && <Text size="small">{first.seen}</Text>}
      {same && names.length > NAMES ? (
        <Text size="small">{foldRuns(names)}</Text>
      ) : (
        row.servers.slice(0, most).map(({ server, seen }) => (
          <Text key={server} size="small">
            <Press onClick={() => pick(server)}>{server}</Press>
            {same ? "" : `: ${seen}`}
          </Text>
        ))
      )}
      {!same && names.length > most && (
        <Press onClick={() => showAll(true)}>{names.length - most} more servers</Press>
      )}
      <Text size="small" tone="quiet">
        {row.remedy}
        {row.overridable && " It may be overridden with a reason: pick the server."}
      </Text>
    </Text>
  );
}
