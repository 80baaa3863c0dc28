import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";

import { api, type Changes, type Reading, type ServerDetail, take } from "../api/client";
import { ALOUD } from "../api/refused";
import { changes as changesQuery, readings as readingsQuery } from "./queries";
import { clock, count, day } from "../shell/format";
import { More } from "../ui/More";
import { Notice } from "../ui/Notice";
import { Mono, Title } from "../ui/text";
import { Key } from "../ui/Key";
import { Row, Stack, Text } from "../ui/layout";

/** What was there at an earlier reading and is not any more, until someone has looked. */
export function LostParts({ server }: { server: ServerDetail }) {
  const queries = useQueryClient();
  const seen = useMutation({
    meta: ALOUD,
    mutationFn: () =>
      take(api.POST("/api/v1/servers/{name}/lost/seen", { params: { path: { name: server.name } } })),
    onSuccess: () => queries.invalidateQueries(),
  });
  if (!server.lost_parts.length) return null;
  return (
    <Notice title={`${count(server.lost_parts.length, "component")} vanished`} onSeen={() => seen.mutate()}>
      {server.lost_parts.map((part) => (
        <Box key={part.slot}>
          {part.name} <Mono>{part.version}</Mono> in {part.slot}, missed since {when(part.missed_at)}
        </Box>
      ))}
      Look at the card itself; a cold start brings some back.
    </Notice>
  );
}

const when = (at: string): string => `${day(new Date(at))} ${clock(new Date(at))}`;
const label = (r: Reading): string =>
  `${when(r.read_at)}${r.changes ? `, ${count(r.changes, "change")}` : ""}`;
const WORDS: Record<string, string> = {
  vanished: "vanished",
  appeared: "new",
  exchanged: "exchanged",
  version: "version",
  waiting: "waiting",
  state: "state",
  health: "health",
};

/** Every reading is kept; any two can be compared. The key h opens it. */
export function History({ server }: { server: ServerDetail }) {
  const [open, setOpen] = useState(false);
  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      const target = event.target as HTMLElement;
      if (
        event.key === "h" &&
        !event.ctrlKey &&
        !event.metaKey &&
        !["INPUT", "TEXTAREA"].includes(target.tagName)
      )
        setOpen((o) => !o);
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, []);
  if (!server.readings) return null;
  return (
    <Stack ruled="ink" pt={1.25} gap={1}>
      <Row align="baseline" gap={1}>
        <Title level={3}>History</Title>
        <Text size="note" tone="quiet">
          {count(server.readings, "reading")}
        </Text>
        <Button variant="outlined" sx={{ ml: "auto" }} aria-expanded={open} onClick={() => setOpen(!open)}>
          {open ? "Close" : "What changed"} <Key>h</Key>
        </Button>
      </Row>
      {open && <Compare name={server.name} />}
    </Stack>
  );
}

function Compare({ name }: { name: string }) {
  const [limit, setLimit] = useState(100);
  const { data: { rows: all, total } = { rows: [], total: 0 } } = useQuery(readingsQuery(name, limit));
  const [before, setBefore] = useState<number | null>(null);
  const [after, setAfter] = useState<number | null>(null);
  const { data, error } = useQuery(changesQuery(name, before, after));
  if (error) return <Notice>{error.message}</Notice>;
  if (!data) return null;
  const pick = (what: string, value: number, set: (id: number) => void) => (
    <TextField select size="small" label={what} value={value} onChange={(e) => set(Number(e.target.value))}>
      {all.map((r) => (
        <MenuItem key={r.id} value={r.id}>
          {label(r)}
        </MenuItem>
      ))}
    </TextField>
  );
  const known = (id: number): boolean => all.some((r) => r.id === id);
  return (
    <Stack gap={1}>
      {known(data.before.id) && known(data.after.id) && (
        <Box sx={{ display: "grid", gridTemplateColumns: "1fr 1fr", gap: 1 }}>
          {pick("From", data.before.id, setBefore)}
          {pick("To", data.after.id, setAfter)}
        </Box>
      )}
      <More
        shown={all.length}
        total={total}
        what="readings to choose from"
        more={() => setLimit(limit * 5)}
      />
      <ChangeList changes={data} />
    </Stack>
  );
}

function ChangeList({ changes }: { changes: Changes }) {
  if (!changes.changes.length)
    return (
      <Text size="small">
        Nothing changed between these two readings: the same {changes.after.components} components.
      </Text>
    );
  return (
    <Stack as="ul" aria-label="Changes" m={0} p={0} plain gap={0.5} size="small">
      {changes.changes.map((c) => (
        <li key={c.what + c.slot}>
          <Text as="strong" tone={c.what === "vanished" ? "deep" : "plain"}>
            {WORDS[c.what] ?? c.what}
          </Text>{" "}
          {c.name} in {c.slot}:{" "}
          <Mono>
            {c.before ?? "–"} → {c.after ?? "–"}
          </Mono>
        </li>
      ))}
    </Stack>
  );
}
