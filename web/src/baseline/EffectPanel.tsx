import { styled } from "@mui/material/styles";
import Button from "@mui/material/Button";
import TextField from "@mui/material/TextField";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { api, type Effect, take } from "../api/client";
import { count, size } from "../shell/format";
import { Act } from "../ui/Act";
import { ActionBar } from "../ui/ActionBar";
import { Notice } from "../ui/Notice";
import { Mono, Title } from "../ui/text";
import { asDocument } from "./draft";
import { effectRows } from "./effect-rows";
import type { DraftState } from "./useDraft";
import { Block, Stack, Text } from "../ui/layout";
import { Section } from "../ui/Section";

/** What a draft would change on this fleet, before it is made. */
export function EffectPanel({ draft, number }: { draft: DraftState; number: number }) {
  const queries = useQueryClient();
  const [note, setNote] = useState("");
  const make = useMutation({
    mutationFn: () =>
      take(
        api.POST("/api/v1/baseline/revisions", {
          body: { ...asDocument(draft.wanted), basis: number, note },
        }),
      ),
    onSuccess: () => {
      setNote("");
      return queries.invalidateQueries();
    },
  });
  if (!draft.dirty) {
    return (
      <Section title={<>r{number} holds</>} ruled="ink" pt={1}>
        <Text tone="quiet" size="body">
          {make.isSuccess ? <span role="status">Made. </span> : ""}Move a pin or change a rule: what that
          means for this fleet stands here before anything is made.
        </Text>
      </Section>
    );
  }
  return (
    <Stack as="section" aria-label="Effect of the draft" ruled="ink" pt={1} gap={1}>
      <Title level={2}>
        If r{number + 1} replaces r{number}
      </Title>
      {draft.error && <Notice title="This draft can't be worked out">{draft.error.message}</Notice>}
      {draft.effect && <EffectTable effect={draft.effect.effect} />}
      {draft.moved && (
        <Text tone="pending" size="small">
          This draft was begun from r{draft.basis}; r{number} was made since. It is compared with r{number}.
        </Text>
      )}
      <Text role="status" tone="quiet" size="note" style={{ minHeight: 18 }}>
        {draft.kept ? "Your draft is kept; nobody else is touched by it." : ""}
      </Text>
      <TextField
        size="small"
        label="What for (goes with the revision)"
        value={note}
        onChange={(e) => setNote(e.target.value)}
      />
      <ActionBar>
        <Act
          takes="approve"
          variant="contained"
          why={
            draft.error
              ? "Put right what is wrong first."
              : note.trim()
                ? null
                : "Say what this revision is for."
          }
          onClick={() => make.mutate()}
          loading={make.isPending}
        >
          Make it r{number + 1}
        </Act>
        <Button variant="outlined" onClick={draft.drop}>
          Drop the draft
        </Button>
      </ActionBar>
      {make.error && <Notice title="Not made">{make.error.message}</Notice>}
    </Stack>
  );
}

const Effects = styled("table")(({ theme }) => ({
  width: "100%",
  borderCollapse: "collapse",
  "& td, & th": { padding: theme.spacing(0.25, 0.125), textAlign: "left", fontWeight: 400 },
  "& .n": { textAlign: "right", whiteSpace: "nowrap" },
}));

/** Before and after in one table, and whose target changes. */
export function EffectTable({ effect }: { effect: Effect }) {
  const { changes } = effect;
  return (
    <Text size="body">
      <Effects aria-label="Effect on the fleet">
        <tbody>
          {effectRows(effect, size).map((row) => (
            <tr key={row.label}>
              <th scope="row">{row.label}</th>
              <td className="n">
                <Mono dim>{row.after}</Mono>
              </td>
              <Text
                as="td"
                className="n"
                style={{ width: 86 }}
                tone={row.worse ? "deep" : row.change ? "plain" : "quiet"}
                strong
              >
                <Mono>{row.change || "±0"}</Mono>
              </Text>
            </tr>
          ))}
        </tbody>
      </Effects>
      {effect.fixes_gained.length > 0 && (
        <Block mt={0.5}>Closes besides: {effect.fixes_gained.join(", ")}.</Block>
      )}
      {effect.fixes_lost.length > 0 && (
        <Text mt={0.5} tone="deep">
          No longer closes: {effect.fixes_lost.join(", ")}.
        </Text>
      )}
      {changes.length > 0 && (
        <Block as="ul" aria-label="Targets that change" m={0} mt={0.75} pl={0} plain>
          {changes.slice(0, 8).map((c) => (
            <Block as="li" key={`${c.product} ${c.before} ${c.after}`} ruled py={0.25}>
              {c.name}: <Mono>{c.before ?? "none"}</Mono> → <Mono>{c.after ?? "none"}</Mono>{" "}
              <Text as="span" tone="quiet">
                in {count(c.servers, "server")}
              </Text>
            </Block>
          ))}
          {changes.length > 8 && <li>and {changes.length - 8} more</li>}
        </Block>
      )}
    </Text>
  );
}
