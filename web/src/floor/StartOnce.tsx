// Starting a server once from a service partition of its own: chosen here, restarted by whoever has it in hand.
import { useMutation } from "@tanstack/react-query";

import { api, type Component, take } from "../api/client";
import { Act } from "../ui/Act";
import { Block, Stack, Text } from "../ui/layout";
import { Notice } from "../ui/Notice";
import { Tag } from "../ui/Tag";

/** What a partition is to the next start of its server, with what choosing it means, or taking that back. */
export function StartOnce({ server, part }: { server: string; part: Component }) {
  const params = { path: { name: server } };
  const send = useMutation({
    mutationFn: () =>
      take(api.POST("/api/v1/servers/{name}/next-start", { params, body: { slot: part.slot } })),
  });
  const back = useMutation({
    mutationFn: () => take(api.DELETE("/api/v1/servers/{name}/next-start", { params })),
  });
  const refused = send.error ?? back.error;
  if (!part.start) return null;
  return (
    <Block>
      {part.start === "next" ? (
        <Stack gap={0.5} left my={0.75}>
          <Tag tone="pending">the next start goes here</Tag>
          <Text size="note" tone="quiet">
            Once, whoever restarts {server}; then it starts as usual. Until then no update of it begins.
          </Text>
          <Act
            takes="run"
            variant="outlined"
            size="small"
            loading={back.isPending}
            onClick={() => back.mutate()}
          >
            Take that back
          </Act>
        </Stack>
      ) : (
        <details>
          <summary>
            <Text as="span" size="note">
              Start {server} from it once
            </Text>
          </summary>
          <Stack gap={0.5} left my={0.75}>
            <Text size="note" tone="quiet">
              Its next start, whoever restarts it, goes to {part.name} instead of its own system; the one
              after that is as usual. Nothing is reset from here: restart it when its work has moved off.
              Until then no update of it begins.
            </Text>
            <Act
              takes="run"
              variant="outlined"
              size="small"
              loading={send.isPending}
              onClick={() => send.mutate()}
            >
              Send its next start to {part.slot}
            </Act>
          </Stack>
        </details>
      )}
      {refused && <Notice>{refused.message}</Notice>}
    </Block>
  );
}
