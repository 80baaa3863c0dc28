import Button from "@mui/material/Button";
import { useQuery } from "@tanstack/react-query";
import { type ReactNode, useEffect } from "react";

import { asKept, fetchKept, isKnown, shortName } from "./kept";
import { Notice } from "../ui/Notice";
import { useParam } from "./selection";
import { Block } from "../ui/layout";

/** How long a selection stands before it is kept: one that grows key by key is kept once. */
const SETTLED_MS = 250;

/**
 * What is drawn for the servers that the address says. Those of a short name from elsewhere are fetched first: a
 * place that took them for none would offer to do for all what was asked for some.
 */
export function KeptSelection({ children }: { children: ReactNode }) {
  const [said, change] = useParam("servers");
  const short = shortName(said);
  const { data, error } = useQuery({
    queryKey: ["selection", short],
    queryFn: () => fetchKept(short ?? ""),
    enabled: short !== null && !isKnown(short),
    staleTime: Infinity,
  });
  const waits = short !== null && !isKnown(short) && !data;
  useEffect(() => {
    if (short === null || waits) return undefined;
    // Should it fail, whatever needs it there sends it again and says so.
    const timer = window.setTimeout(() => void asKept(said ?? "").catch(() => undefined), SETTLED_MS);
    return () => window.clearTimeout(timer);
  }, [said, short, waits]);
  if (!waits) return children;
  if (!error) return null;
  return (
    <Block p={3}>
      <Notice title="The selection in this address can't be told">
        {error.message}
        <Block mt={0.75}>
          <Button variant="outlined" onClick={() => change(null)}>
            Go on with nothing selected
          </Button>
        </Block>
      </Notice>
    </Block>
  );
}
