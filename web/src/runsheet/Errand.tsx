import type { RunServer } from "../api/client";
import { Tick } from "../shell/Tick";
import { Notice } from "../ui/Notice";
import { Text } from "../ui/layout";

/** What a server of a run waits for outside: somebody at the rack, or its work to go and to come back. */
export function Errand({ run, lane }: { run: number; lane: RunServer }) {
  const { errand } = lane;
  if (!errand) return null;
  if (errand.ticked_by)
    return (
      <Text role="status" size="body">
        {lane.server}: ticked by {errand.ticked_by}, going on.
      </Text>
    );
  if (errand.of)
    return (
      <Text role="status" size="body">
        {lane.server} waits for {errand.of}: {errand.text}
      </Text>
    );
  return (
    <Notice calm title={`${lane.server} waits for somebody`}>
      {errand.text}
      <Tick run={run} server={lane.server} tickKey={errand.key} />
    </Notice>
  );
}
