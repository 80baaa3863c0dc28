import Box from "@mui/material/Box";
import { useQuery } from "@tanstack/react-query";

import type { Component, ServerDetail } from "../api/client";
import { Credentials } from "../shell/Credentials";
import { server as serverQuery } from "../shell/reading";
import { Unread, wantsCredentials } from "../shell/Unread";
import { ago, clock, count, day, month } from "../shell/format";
import { Notice } from "../ui/Notice";
import { Tag } from "../ui/Tag";
import { GoBack } from "./GoBack";
import { Mono, Title } from "../ui/text";
import { useSiteNow } from "../shell/time";
import { OFF, VERDICTS, WORST_FIRST } from "../waterline/words";
import { Acts } from "./Acts";
import { History, LostParts } from "./History";
import { StartOnce } from "./StartOnce";
import { HostReport } from "./HostReport";
import { Hindrances, Ways } from "./Ways";
import { Block, Stack, Text } from "../ui/layout";
import { InkLink } from "../ui/links";
import { Glyph } from "../waterline/Glyph";

/** Everything of one server, and what can be done with it. */
export function ServerPanel({ name }: { name: string }) {
  const { data, error } = useQuery(serverQuery(name));
  if (error) return <Notice>{error.message}</Notice>;
  if (!data) return null;
  return (
    <Stack gap={1.25} start>
      <Head server={data} />
      {data.failure && <Unread server={data} />}
      <Acts servers={[data]} />
      <LostParts server={data} />
      <Hindrances server={data} />
      <Parts server={data} />
      <Route server={data} />
      <Ways server={data} />
      <History key={data.name} server={data} />
      <HostReport server={data} />
      {!wantsCredentials(data.failure?.cause) && (
        <Credentials key={`${data.name} user`} names={[data.name]} user={data.user} />
      )}
    </Stack>
  );
}

function Head({ server }: { server: ServerDetail }) {
  const now = useSiteNow(5000);
  const place = [server.room && `${server.room} room`, server.rack, server.unit ? `unit ${server.unit}` : ""]
    .filter(Boolean)
    .join(", ");
  return (
    <Box>
      <Title>{server.name}</Title>
      <Text tone="quiet" size="small">
        {[server.model || "model not read yet", place, server.role].filter(Boolean).join(", ")}.{" "}
        {server.read_at
          ? `Read ${ago(server.read_at, now)}, ${count(server.readings, "reading")} kept`
          : "Not read yet"}
        {server.group &&
          server.may_be_away !== null &&
          `. Group ${server.group}: ${server.may_be_away} may be away`}
        .{" "}
        {[
          server.power && `Power ${server.power.toLowerCase()}`,
          server.health && `health ${server.health}`,
          server.serial && `serial ${server.serial}`,
          server.tag && `tag ${server.tag}`,
        ]
          .filter(Boolean)
          .join(", ")}
      </Text>
    </Box>
  );
}

/** Equal components under one heading: two of eight drives that lag stay visible as such. */
function groups(parts: Component[]): Component[][] {
  const found = new Map<string, Component[]>();
  for (const part of parts) {
    const key = `${part.kind} ${part.product ?? part.name}`;
    found.set(key, [...(found.get(key) ?? []), part]);
  }
  return [...found.values()];
}

const TONE: Record<string, "deep" | "rule"> = { security: "deep" };

function Parts({ server }: { server: ServerDetail }) {
  return (
    <Block as="ul" aria-label="Components" m={0} p={0} plain>
      {groups(server.parts).map((parts) => (
        <PartGroup key={`${parts[0]?.slot}`} server={server.name} parts={parts} />
      ))}
    </Block>
  );
}

function PartGroup({ server, parts }: { server: string; parts: Component[] }) {
  const lead = [...parts].sort((a, b) => WORST_FIRST.indexOf(a.verdict) - WORST_FIRST.indexOf(b.verdict))[0];
  if (!lead) return null;
  const versions = [
    ...new Map(parts.map((p) => [p.version, parts.filter((q) => q.version === p.version).length])).entries(),
  ];
  const off = OFF.has(lead.verdict);
  return (
    <Stack as="li" style={{ gridTemplateColumns: "22px 1fr auto", columnGap: 8 }} ruled py={0.9}>
      <Stack start gap={0.5} size="fine" strong>
        {lead.letter}
        <Glyph verdict={lead.verdict} behind={lead.behind ?? 0} label={VERDICTS[lead.verdict]} />
      </Stack>
      <Block minWidth={0}>
        <strong>
          {lead.product ? <InkLink to={`/drift?product=${lead.product}`}>{lead.name}</InkLink> : lead.name}
          {parts.length > 1 && ` × ${parts.length}`}
        </strong>
        <Text size="small">
          <Mono>
            {versions
              .map(([v, n]) => `${v ?? lead.state ?? "unread"}${versions.length > 1 ? ` ×${n}` : ""}`)
              .join(", ")}
          </Mono>
          {off && lead.target && (
            <Mono>
              {" "}
              → <strong>{lead.target}</strong>
            </Mono>
          )}
        </Text>
        <Text size="note" tone="quiet">
          {tellPart(lead)}
        </Text>
        {lead.version && parts.length === 1 && <GoBack server={server} slot={lead.slot} />}
        {parts.length === 1 && <StartOnce server={server} part={lead} />}
      </Block>
      {off && lead.importance && (
        <Box>
          <Tag tone={TONE[lead.importance] ?? "rule"}>{lead.importance}</Tag>
        </Box>
      )}
    </Stack>
  );
}

function tellPart(part: Component): string {
  const second = part.banks.find((v) => v !== part.version && v !== part.waiting);
  const told = [
    part.state === "blank" && "blank: nothing is on it; a run sets it up and fills it",
    part.state === "damaged" &&
      "damaged: a run sets it up anew and fills it; what it still holds is lost then",
    part.reported && `the host report says ${part.reported}`,
    part.origin === "host report" && "only the server's own system sees it",
    part.health && part.health !== "OK" && `health ${part.health}`,
    part.waiting && `${part.waiting} is written and waits for a reset`,
    part.verdict === "level"
      ? ""
      : part.verdict === "held"
        ? `held: ${part.reason}`
        : part.state
          ? ""
          : part.verdict === "behind" || part.verdict === "exposed"
            ? `${count(part.behind ?? 0, "release")} behind${part.since ? ` since ${month(part.since)}` : ""}`
            : part.reason && part.verdict !== "pending"
              ? `${VERDICTS[part.verdict]}: ${part.reason}`
              : "",
    part.fixes.length > 0 && `closes ${part.fixes.join(", ")}`,
    second && `second bank ${second}`,
    part.seen_since &&
      `at this version since ${day(new Date(part.seen_since))} ${clock(new Date(part.seen_since))} or before`,
  ];
  return told.filter(Boolean).join("; ");
}

function Route({ server }: { server: ServerDetail }) {
  if (!server.rounds.length && !server.stranded.length) return null;
  return (
    <Stack ruled="ink" pt={1.25} gap={0.75}>
      <Title level={3}>The way to the baseline: {server.resets || "no reset"}</Title>
      <Text as="ol" m={0} pl={2.5} size="small">
        {server.rounds.map((round, at) => (
          <li key={at}>
            <Mono>{round.writes.map((w) => `${w.slot} ${w.to}`).join(", ") || "nothing to write"}</Mono>
            {round.reset && `, then ${round.reset}`}
          </li>
        ))}
      </Text>
      {server.stranded.map((s) => (
        <Text key={s.slot} size="small">
          {s.slot} stays: {s.reason}
        </Text>
      ))}
      <Text size="note" tone="quiet">
        {server.proof}
      </Text>
    </Stack>
  );
}
