import { useQuery } from "@tanstack/react-query";
import { useState } from "react";

import type { RunServer } from "../api/client";
import { Block, Text } from "../ui/layout";
import { Mono } from "../ui/text";
import { reversals } from "./queries";
import { tellReversal } from "./tellReversal";

/** Before a start: to what each update of a server could be taken back afterwards, and what that would take. */
export function Reversals({ run, lane }: { run: number; lane: RunServer }) {
  const [isOpen, open] = useState(false);
  return (
    <Text size="small" mt={0.75}>
      <details onToggle={(e) => open(e.currentTarget.open)}>
        <summary>What can be taken back afterwards</summary>
        {isOpen && <Listed run={run} server={lane.server} />}
      </details>
    </Text>
  );
}

function Listed({ run, server }: { run: number; server: string }) {
  const { data } = useQuery(reversals(run, server));
  return (
    <Block as="ul" aria-label={`Ways back of ${server} afterwards`} m={0} mt={0.5} p={0} plain>
      {data?.map((found) => (
        <Block as="li" key={found.slot} ruled py={0.5}>
          <Mono>
            {found.slot} → {found.to || "nothing older"}
          </Mono>
          <Text tone={found.barred ? "deep" : "quiet"} size="note">
            {tellReversal(found)}
          </Text>
        </Block>
      ))}
    </Block>
  );
}
