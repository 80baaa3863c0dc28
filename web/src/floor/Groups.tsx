import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import TextField from "@mui/material/TextField";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useRef, useState } from "react";

import { api, type Away, type Group, take } from "../api/client";
import { groups as groupsQuery } from "../api/queries";
import { away as awayQuery } from "./queries";
import { clock, count } from "../shell/format";
import { Act } from "../ui/Act";
import { ActionBar } from "../ui/ActionBar";
import { Notice } from "../ui/Notice";
import { Tag } from "../ui/Tag";
import { Title } from "../ui/text";
import { byName } from "./plan";
import { Block, Row, Stack, Text } from "../ui/layout";
import { Field, Unsaid } from "../ui/Field";
import { Section } from "../ui/Section";

/** Who serves together, how many of them may be away at once, and who is away now. */
export function Groups({ done }: { done: () => void }) {
  const { data: groups = [] } = useQuery(groupsQuery);
  const { data: away = [] } = useQuery(awayQuery);
  return (
    <Stack gap={1.5} start>
      <Row align="baseline">
        <Title level={2}>Groups</Title>
        <Button variant="outlined" sx={{ ml: "auto" }} onClick={done}>
          Close
        </Button>
      </Row>
      <Text size="small" tone="quiet">
        Servers that serve together. No more of a group are ever away at once than it allows, over all runs of
        this site; a server left away by a failure counts until a reading proves it back.
      </Text>
      {away.some((a) => a.kept) && <LeftAway rows={away.filter((a) => a.kept)} />}
      <Block as="ul" aria-label="Groups" m={0} p={0} plain>
        {[...groups]
          .sort((a, b) => byName(a.name, b.name))
          .map((g) => (
            <GroupRow key={g.name} group={g} />
          ))}
      </Block>
      <NewGroup />
    </Stack>
  );
}

function useChange() {
  const queries = useQueryClient();
  return { onSuccess: () => queries.invalidateQueries({ queryKey: ["groups"] }) };
}

function GroupRow({ group }: { group: Group }) {
  const [told, setTold] = useState<string | null>(null);
  const [asked, ask] = useState(false);
  const path = { name: group.name };
  const change = useMutation({
    mutationFn: (may_be_away: number) =>
      take(api.PATCH("/api/v1/groups/{name}", { params: { path }, body: { may_be_away } })),
    ...useChange(),
  });
  const remove = useMutation({
    mutationFn: () => take(api.DELETE("/api/v1/groups/{name}", { params: { path } })),
    ...useChange(),
  });
  const wanted =
    told === null || !/^\d+$/.test(told.trim()) || Number(told) === group.may_be_away ? null : Number(told);
  const submit = (event: FormEvent) => {
    event.preventDefault();
    if (wanted !== null) change.mutate(wanted, { onSuccess: () => setTold(null) });
  };
  return (
    <Stack as="li" py={0.75} under gap={0.5}>
      <Row as="form" onSubmit={submit} align="center" gap={1}>
        <Block flex={1} minWidth={0}>
          <strong>{group.name}</strong>
          <Text size="note" tone="quiet">
            {count(group.servers ?? 0, "server")}
            {group.away?.length ? `; away or about to be: ${group.away.join(", ")}` : ""}
          </Text>
        </Block>
        <Field
          field="may_be_away"
          refused={change.error}
          label="May be away"
          value={told ?? String(group.may_be_away)}
          onChange={(e) => setTold(e.target.value)}
          slotProps={{ htmlInput: { inputMode: "numeric", "aria-label": `May be away of ${group.name}` } }}
          sx={{ width: 96 }}
        />
        {wanted !== null ? (
          <Act takes="keep" type="submit" variant="contained" loading={change.isPending}>
            Change
          </Act>
        ) : (
          <Act
            takes="keep"
            aria-label={`Delete ${group.name}`}
            why={group.away?.length ? "Servers of it are away." : null}
            loading={remove.isPending}
            onClick={() => (group.servers ? ask(true) : remove.mutate())}
          >
            Delete
          </Act>
        )}
      </Row>
      {asked && (
        <Notice title={`${count(group.servers ?? 0, "server")} would lose the limit`}>
          Without {group.name} all of them may be away at once.
          <Row gap={1} mt={0.75}>
            <Button variant="outlined" color="error" onClick={() => remove.mutate()}>
              Delete {group.name} all the same
            </Button>
            <Button onClick={() => ask(false)}>Keep it</Button>
          </Row>
        </Notice>
      )}
      <Unsaid error={change.error} fields={["may_be_away"]} />
      <Unsaid error={remove.error} fields={[]} />
    </Stack>
  );
}

function NewGroup() {
  const file = useRef<HTMLInputElement>(null);
  const [name, setName] = useState("");
  const [limit, setLimit] = useState("1");
  const make = useMutation({
    mutationFn: () =>
      take(api.POST("/api/v1/groups", { body: { name: name.trim(), may_be_away: Number(limit) } })),
    ...useChange(),
  });
  const bring = useMutation({
    mutationFn: (list: string) => take(api.PUT("/api/v1/groups", { body: { list } })),
    ...useChange(),
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    if (name.trim()) make.mutate(undefined, { onSuccess: () => setName("") });
  };
  return (
    <Stack as="form" onSubmit={submit} gap={1}>
      <Title level={3}>Make one</Title>
      <Row gap={1}>
        <Field
          field="name"
          refused={make.error}
          label="Name of the group"
          value={name}
          onChange={(e) => setName(e.target.value)}
          sx={{ flex: 1 }}
        />
        <Field
          field="may_be_away"
          refused={make.error}
          label="May be away"
          value={limit}
          onChange={(e) => setLimit(e.target.value)}
          slotProps={{ htmlInput: { inputMode: "numeric" } }}
          sx={{ width: 96 }}
        />
      </Row>
      <input
        ref={file}
        type="file"
        aria-label="List of groups"
        hidden
        accept=".csv,text/csv"
        onChange={(e) => {
          const chosen = e.target.files?.[0];
          if (chosen) void chosen.text().then((list) => bring.mutate(list));
          e.target.value = "";
        }}
      />
      <ActionBar>
        <Act
          takes="keep"
          type="submit"
          variant="contained"
          loading={make.isPending}
          why={
            !name.trim()
              ? "Give it a name first."
              : /^\d+$/.test(limit)
                ? null
                : "How many may be away is a number."
          }
        >
          Make the group
        </Act>
        <Act takes="keep" variant="outlined" loading={bring.isPending} onClick={() => file.current?.click()}>
          Choose a list (CSV)
        </Act>
      </ActionBar>
      <Text size="note" tone="quiet">
        A list has the columns group and may_be_away. Which servers belong to a group is said in the list of
        servers, or on a server's panel.
      </Text>
      <Unsaid error={make.error} fields={["name", "may_be_away"]} />
      <Unsaid error={bring.error} fields={[]} />
      {bring.isSuccess && (
        <Text role="status" size="small">
          The list was taken over.
        </Text>
      )}
    </Stack>
  );
}

function LeftAway({ rows }: { rows: Away[] }) {
  return (
    <Section title="Left away" level={3} gap={1} side="deep" ground="deep" px={1.5} py={1}>
      {rows.map((row) => (
        <GiveBack key={row.server} row={row} />
      ))}
    </Section>
  );
}

/** A server that a run left away: what the last reading said, and a person's word that it is back. */
export function GiveBack({ row }: { row: Away }) {
  const queries = useQueryClient();
  const [reason, setReason] = useState("");
  const back = useMutation({
    mutationFn: () =>
      take(
        api.POST("/api/v1/away/{name}/back", {
          params: { path: { name: row.server } },
          body: { reason: reason.trim() },
        }),
      ),
    onSuccess: () => queries.invalidateQueries(),
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    if (reason.trim()) back.mutate();
  };
  return (
    <Stack as="form" onSubmit={submit} gap={0.75} size="body">
      <Box>
        <strong>{row.server}</strong> <Tag tone="deep">away</Tag> since {clock(new Date(row.since))}:{" "}
        {row.run_name} ended there while it was out of service.
        {row.doubt && ` The last reading does not prove it back: ${row.doubt}.`} Read it again, or say why it
        counts as back.
      </Box>
      <Row gap={1}>
        <TextField
          size="small"
          label={`Why ${row.server} is back`}
          value={reason}
          onChange={(e) => setReason(e.target.value)}
          fullWidth
        />
        <Act
          takes="run"
          type="submit"
          variant="contained"
          why={reason.trim() ? null : "Say why first; it stands on its tape."}
          loading={back.isPending}
        >
          Counts as back
        </Act>
      </Row>
      {back.error && <Notice>{back.error.message}</Notice>}
    </Stack>
  );
}
