// To what a component can go back, what that takes, and laying it out as a sheet.
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";

import { api, take, type WayBack } from "../api/client";
import { waysBack } from "../api/waysBack";
import { duration } from "../shell/format";
import { Act } from "../ui/Act";
import { Block, Stack, Text } from "../ui/layout";
import { Notice } from "../ui/Notice";
import { Mono } from "../ui/text";

/** One line that opens to every older version that is held somewhere. */
export function GoBack({ server, slot }: { server: string; slot: string }) {
  const [isOpen, open] = useState(false);
  return (
    <details onToggle={(e) => open(e.currentTarget.open)}>
      <summary>
        <Text as="span" size="note">
          What {slot} can go back to
        </Text>
      </summary>
      {isOpen && <Ways server={server} slot={slot} />}
    </details>
  );
}

function Ways({ server, slot }: { server: string; slot: string }) {
  const navigate = useNavigate();
  const { data, error } = useQuery(waysBack(server, slot));
  const back = useMutation({
    mutationFn: (to: string) => take(api.POST("/api/v1/ways-back", { body: { server, slot, to } })),
    onSuccess: (draft) => void navigate(`/run-sheet/${draft.id}`),
  });
  const refused = error ?? back.error;
  return (
    <Block as="ul" aria-label={`Ways back of ${slot}`} m={0} p={0} plain>
      {refused && <Notice>{refused.message}</Notice>}
      {data?.ways.length === 0 && (
        <Text as="li" size="note" tone="quiet">
          Nothing older is in a bank of it or in a repository here.
        </Text>
      )}
      {data?.ways.map((way) => (
        <li key={way.version}>
          <Stack gap={0.5} left my={0.75}>
            <Mono>{way.version}</Mono>
            <Text size="note" tone="quiet">
              {told(way)}
            </Text>
            <Act
              takes="plan"
              variant="outlined"
              size="small"
              why={way.barred ? `No way back: ${way.barred}` : null}
              loading={back.isPending}
              aria-label={`${way.switches ? "Switch" : "Go back"} to ${way.version}: ${slot} of ${server}`}
              onClick={() => back.mutate(way.version)}
            >
              {way.switches ? "Switch" : "Go back"} to {way.version}
            </Act>
          </Stack>
        </li>
      ))}
    </Block>
  );
}

function told(way: WayBack): string {
  if (way.barred) return `barred: ${way.barred}`;
  return [
    way.switches ? "in its second bank: switched to, nothing is written" : way.bank && "in its second bank",
    !way.switches && way.stored && `from ${way.repositories.map((r) => r.name).join(", ")}`,
    `${way.resets || "no reset"}, about ${duration(way.seconds)}`,
    way.outage && "out of service meanwhile",
  ]
    .filter(Boolean)
    .join("; ");
}
