import Box from "@mui/material/Box";
import { useMutation } from "@tanstack/react-query";

import type { ServerDetail } from "../api/client";
import { ago } from "../shell/format";
import { Act } from "../ui/Act";
import { Notice } from "../ui/Notice";
import { Tag } from "../ui/Tag";
import { Title } from "../ui/text";
import { useSiteNow } from "../shell/time";
import { tryReach } from "./orders";
import { Block, Stack, Text } from "../ui/layout";

/** What will get in the way of an update, each with its remedy. */
export function Hindrances({ server }: { server: ServerDetail }) {
  if (!server.hindrances.length) return null;
  return (
    <Stack as="ul" aria-label="What will get in the way" m={0} p={0} plain gap={0.75}>
      {server.hindrances.map((h) => (
        <Block as="li" key={h.what + h.seen} side={h.stops ? "deep" : "pending"} pl={1.25} size="small">
          <strong>{h.what}</strong>: {h.seen}
          {h.stops && (
            <>
              {" "}
              <Tag tone="deep">stops an update</Tag>
            </>
          )}
          <Text tone="quiet">{h.remedy}</Text>
        </Block>
      ))}
    </Stack>
  );
}

const OPEN = { true: ["done", "open"], false: ["rule", "closed"], null: ["pending", "not tried"] } as const;

/** How a payload gets to this server: what the controller offers, and what a test from its side showed. */
export function Ways({ server }: { server: ServerDetail }) {
  const now = useSiteNow(15_000);
  const reach = useMutation({ mutationFn: () => tryReach([server.name]) });
  if (!server.ways.length) return null;
  return (
    <Stack ruled="ink" pt={1.25} gap={0.75}>
      <Title level={3}>Reach</Title>
      <Stack as="ul" aria-label="Reach" m={0} p={0} plain gap={0.5} size="small">
        {server.ways.map((way) => {
          const [tone, word] = OPEN[String(way.open) as "true" | "false" | "null"];
          return (
            <li key={way.way}>
              <Tag tone={tone}>{word}</Tag> <strong>{way.way}</strong>: {way.seen}.
              {way.remedy && ` ${way.remedy}`}
            </li>
          );
        })}
      </Stack>
      <Box>
        <Act
          takes="plan"
          variant="outlined"
          onClick={() => reach.mutate()}
          loading={reach.isPending}
          title="Have the controller send a test to us, over HTTPS and HTTP"
        >
          Try from its side
        </Act>
      </Box>
      {reach.error && <Notice>{reach.error.message}</Notice>}
      <Text size="note" tone="quiet">
        {server.probed_at
          ? `Tried from its side ${ago(server.probed_at, now)}.`
          : "Not tried from its side yet."}
      </Text>
    </Stack>
  );
}
