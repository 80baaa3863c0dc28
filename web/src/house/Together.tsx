import { styled } from "@mui/material/styles";
import { useQuery } from "@tanstack/react-query";

import type { Group } from "../api/client";
import { groups as groupsQuery } from "../api/queries";
import { count, foldRuns } from "../shell/format";
import { ink } from "../theme/theme";
import { Row, Text } from "../ui/layout";
import { Press } from "../ui/Press";
import { Section } from "../ui/Section";

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
export function Together({ choose }: { choose: (name: string) => void }) {
  const { data = [] } = useQuery(groupsQuery);
  return (
    <Section title="Who serves together" mt={2.5}>
      <Text tone="quiet" size="body" mb={1}>
        Of each group so many may be off the line at one time, over all runs. Press a name to say how its work
        is moved off before a server goes away, and when the group is whole again.
      </Text>
      <Rows>
        {[...data]
          .sort((a, b) => a.name.localeCompare(b.name, "en", { numeric: true }))
          .map((group) => (
            <OneGroup key={group.name} group={group} choose={choose} />
          ))}
      </Rows>
    </Section>
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

const minutes = (seconds: number): string => `${Math.round(seconds / 60)} min`;

/** How a group lets go and is whole again, in a few words. */
export function tellGroup(group: Group): string {
  const by = (who: Group["mover"]): string => (who === "hook" ? group.hook : "a person");
  const times = `${minutes(group.off_seconds)} off, ${minutes(group.back_seconds)} back`;
  const moves = group.mover ? `work moved off by ${by(group.mover)} (${times})` : "";
  const waits = group.heal_seconds ? ` after about ${minutes(group.heal_seconds)}` : "";
  const heals = group.healer
    ? `whole again when ${by(group.healer)} says so`
    : group.heal_seconds
      ? `whole again${waits}`
      : "";
  return [moves, heals].filter(Boolean).join("; ");
}

function OneGroup({ group, choose }: { group: Group; choose: (name: string) => void }) {
  return (
    <Item>
      <Row between align="baseline" gap={1}>
        <Press strong onClick={() => choose(group.name)}>
          {group.name}
        </Press>
        <Text as="span" size="note" tone="quiet">
          {group.may_be_away} of {count(group.servers, "server")} may be away
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
      {tellGroup(group) && <Text size="note">{tellGroup(group)}</Text>}
    </Item>
  );
}
