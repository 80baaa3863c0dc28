import Checkbox from "@mui/material/Checkbox";
import FormControlLabel from "@mui/material/FormControlLabel";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";

import { api, type Hook, take } from "../api/client";
import { ago, someNames } from "../shell/format";
import { useSiteNow } from "../shell/time";
import { Act } from "../ui/Act";
import { Field, Unsaid } from "../ui/Field";
import { Block, Row, Stack, Text } from "../ui/layout";
import { Section } from "../ui/Section";
import { Mono } from "../ui/text";
import { hooks as hooksQuery } from "./queries";

/** The house's own tools that are asked: each with how it last answered. */
export function Hooks() {
  const { data = [] } = useQuery(hooksQuery);
  const now = useSiteNow(5000);
  return (
    <Section title="Hooks" mt={2.5}>
      <Text tone="quiet" size="body" mb={1}>
        Where the house&apos;s own tools are asked over HTTPS: to move work off a server and take it back, to
        say when a group is whole again, and to call somebody. What is sent is signed.
      </Text>
      <Stack as="ul" plain m={0} p={0}>
        {data.map((hook) => (
          <One key={hook.id} hook={hook} now={now} />
        ))}
      </Stack>
      <NewHook />
    </Section>
  );
}

const tellAnswer = (hook: Hook, now: number): string => {
  if (!hook.asked_at) return "never asked yet";
  if (hook.told) return `asked ${ago(hook.asked_at, now)}: ${hook.told}`;
  return `answered ${ago(hook.answered_at ?? hook.asked_at, now)}`;
};

function One({ hook, now }: { hook: Hook; now: number }) {
  const queries = useQueryClient();
  const fresh = () => queries.invalidateQueries({ queryKey: ["hooks"] });
  const attempt = useMutation({
    mutationFn: () => take(api.POST("/api/v1/hooks/{id}/try", { params: { path: { id: hook.id } } })),
    onSuccess: fresh,
  });
  const drop = useMutation({
    mutationFn: () => take(api.DELETE("/api/v1/hooks/{id}", { params: { path: { id: hook.id } } })),
    onSuccess: fresh,
  });
  const change = useMutation({
    mutationFn: (calls: boolean) =>
      take(
        api.PUT("/api/v1/hooks/{id}", {
          params: { path: { id: hook.id } },
          body: { name: hook.name, url: hook.url, calls },
        }),
      ),
    onSuccess: fresh,
  });
  const groups = [...hook.groups].sort((a, b) => a.localeCompare(b, "en", { numeric: true }));
  const serves = groups.length ? `for ${someNames(groups)}` : "for no group";
  const error = attempt.error ?? drop.error ?? change.error;
  return (
    <Block as="li" ruled py={1}>
      <Row wrap gap={1} align="baseline">
        <strong>{hook.name}</strong>
        <Mono>{hook.url}</Mono>
        <Text as="span" size="note" tone={hook.told ? "deep" : "quiet"} role="status">
          {tellAnswer(hook, now)}
        </Text>
      </Row>
      <Row wrap gap={1} align="center">
        <Text as="span" size="note" tone="quiet">
          {serves}
        </Text>
        <FormControlLabel
          control={
            <Checkbox size="small" checked={hook.calls} onChange={(e) => change.mutate(e.target.checked)} />
          }
          label="Called when something needs a person"
        />
        <Act takes="keep" variant="outlined" loading={attempt.isPending} onClick={() => attempt.mutate()}>
          Try {hook.name}
        </Act>
        <Act takes="keep" variant="text" loading={drop.isPending} onClick={() => drop.mutate()}>
          Delete
        </Act>
      </Row>
      {error && <Block role="alert">{error.message}</Block>}
    </Block>
  );
}

function NewHook() {
  const [name, setName] = useState("");
  const [url, setUrl] = useState("");
  const queries = useQueryClient();
  const add = useMutation({
    mutationFn: () => take(api.POST("/api/v1/hooks", { body: { name: name.trim(), url: url.trim() } })),
    onSuccess: async () => {
      setName("");
      setUrl("");
      await queries.invalidateQueries({ queryKey: ["hooks"] });
    },
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    add.mutate();
  };
  return (
    <Block ruled pt={1.25}>
      <Row as="form" onSubmit={submit} gap={1} wrap align="start" aria-label="New hook">
        <Field
          field="name"
          refused={add.error}
          label="Name of a new hook"
          value={name}
          onChange={(e) => setName(e.target.value)}
        />
        <Field
          field="url"
          refused={add.error}
          label="Its https address"
          value={url}
          onChange={(e) => setUrl(e.target.value)}
        />
        <Act
          takes="keep"
          type="submit"
          variant="outlined"
          loading={add.isPending}
          why={name.trim() && url.trim() ? null : "It needs a name and an address."}
        >
          Add
        </Act>
      </Row>
      <Unsaid error={add.error} fields={["name", "url"]} />
      {add.data && (
        <Block mt={1} role="status">
          The secret of {add.data.name}, shown this once: <Mono>{add.data.secret}</Mono>
          <Text size="note" tone="quiet">
            Give it to the tool that answers there: by it, it knows that Ordnung asks.
          </Text>
        </Block>
      )}
    </Block>
  );
}
