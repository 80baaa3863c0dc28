import { styled } from "@mui/material/styles";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";

import { api, type Group, take } from "../api/client";
import { groups as groupsQuery } from "../api/queries";
import { count, foldRuns } from "../shell/format";
import { ink } from "../theme/theme";
import { Act } from "../ui/Act";
import { Field } from "../ui/Field";
import { Block, Row, Text } from "../ui/layout";
import { Title } from "../ui/text";

const Rows = styled("ul")({
  listStyle: "none",
  margin: 0,
  padding: 0,
  display: "grid",
  gridTemplateColumns: "repeat(auto-fill, minmax(330px, 1fr))",
  columnGap: 28,
});

const Item = styled("li")({
  borderTop: `1px solid ${ink("rule")}`,
  padding: "8px 0",
  display: "grid",
  gap: 4,
});

/** Who serves together: each a post on one line; so many of them may step off it. */
export function Together() {
  const { data = [] } = useQuery(groupsQuery);
  return (
    <Block as="section" mt={2.5} aria-label="Who serves together">
      <Title level={2}>Who serves together</Title>
      <Text tone="quiet" size="body" mb={1}>
        Of each group so many may be off the line at one time, over all runs; one that is back counts until it
        has healed.
      </Text>
      <Rows>
        {[...data]
          .sort((a, b) => a.name.localeCompare(b.name, "en", { numeric: true }))
          .map((group) => (
            <OneGroup key={group.name} group={group} />
          ))}
      </Rows>
    </Block>
  );
}

const MOST_DRAWN = 24;
const STEP = 11;

/** The members as posts: those that may be away stand off the line, those that are away now are hollow. */
function Posts({ group }: { group: Group }) {
  const shown = Math.min(group.servers, MOST_DRAWN);
  const off = Math.min(group.may_be_away, shown);
  return (
    <svg width={shown * STEP + 8} height={26} aria-hidden>
      <line x2={shown * STEP + 8} y1={19} y2={19} stroke={ink("water")} strokeWidth={2} />
      {Array.from({ length: shown }, (_, at) => {
        const isOff = at >= shown - off;
        const isAway = at >= shown - group.away.length;
        return (
          <circle
            key={at}
            cx={at * STEP + 8}
            cy={isOff ? 7 : 19}
            r={4}
            fill={isAway ? ink("sheet") : isOff ? ink("water2") : ink("ink")}
            stroke={isOff ? ink("water") : ink("ink")}
            strokeWidth={1.2}
          />
        );
      })}
    </svg>
  );
}

function OneGroup({ group }: { group: Group }) {
  const [away, setAway] = useState(String(group.may_be_away));
  const [heals, setHeals] = useState(String(Math.round(group.heal_seconds / 60)));
  const queries = useQueryClient();
  const change = useMutation({
    mutationFn: () =>
      take(
        api.PATCH("/api/v1/groups/{name}", {
          params: { path: { name: group.name } },
          body: { may_be_away: Number(away), heal_seconds: Number(heals) * 60 },
        }),
      ),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["groups"] }),
  });
  const isChanged = Number(away) !== group.may_be_away || Number(heals) * 60 !== group.heal_seconds;
  const submit = (event: FormEvent) => {
    event.preventDefault();
    if (isChanged) change.mutate();
  };
  const number = { htmlInput: { inputMode: "numeric" } } as const;
  return (
    <Item>
      <Row between align="baseline" gap={1}>
        <strong>{group.name}</strong>
        <Text as="span" size="note" tone="quiet">
          {count(group.servers, "server")}
          {group.away.length ? `, away: ${group.away.join(", ")}` : ""}
        </Text>
      </Row>
      <Row align="center" gap={1}>
        <Posts group={group} />
        {group.servers > MOST_DRAWN && <Text size="note">and {group.servers - MOST_DRAWN} more</Text>}
      </Row>
      <Text size="note" tone="quiet">
        {foldRuns(group.members.slice(0, MOST_DRAWN)) || "nobody yet"}
      </Text>
      <Row as="form" onSubmit={submit} gap={1} align="center" mt={0.5}>
        <Field
          field="may_be_away"
          refused={change.error}
          label="May be away"
          value={away}
          onChange={(e) => setAway(e.target.value)}
          slotProps={{
            ...number,
            htmlInput: { ...number.htmlInput, "aria-label": `May be away of ${group.name}` },
          }}
          sx={{ width: 110 }}
        />
        <Field
          field="heal_seconds"
          refused={change.error}
          label="Heals, minutes"
          value={heals}
          onChange={(e) => setHeals(e.target.value)}
          slotProps={{
            ...number,
            htmlInput: { ...number.htmlInput, "aria-label": `Heals, minutes, ${group.name}` },
          }}
          sx={{ width: 120 }}
        />
        {isChanged && (
          <Act takes="keep" type="submit" variant="contained" loading={change.isPending}>
            Change
          </Act>
        )}
      </Row>
    </Item>
  );
}
