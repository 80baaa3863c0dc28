import { useMutation } from "@tanstack/react-query";
import { useNavigate } from "react-router";

import { spell } from "../shell/kept";
import { Act } from "../ui/Act";
import { Notice } from "../ui/Notice";
import { readAgain } from "../shell/reading";
import { Row } from "../ui/layout";

interface Acted {
  name: string;
  off: number;
  read?: number;
  read_at?: string | null;
}

/** What can be done with servers; ``whole``: they are all that need something, so none is named. */
export function Acts({ servers, whole = false }: { servers: Acted[]; whole?: boolean }) {
  const navigate = useNavigate();
  const names = servers.map((s) => s.name);
  const isRead = servers.some((s) => s.read ?? s.read_at);
  const nothing = servers.some((s) => s.off > 0)
    ? null
    : isRead
      ? "Nothing here is off the baseline."
      : "Read it first.";
  const read = useMutation({ mutationFn: () => readAgain(names) });
  const go = (place: string) => void navigate(`${place}?new=1${whole ? "" : `&servers=${spell(names)}`}`);
  return (
    <Row wrap gap={1}>
      <Act takes="plan" variant="contained" why={nothing} onClick={() => go("/run-sheet")}>
        Plan a run
      </Act>
      <Act takes="plan" variant="outlined" why={nothing} onClick={() => go("/repository")}>
        Pack
      </Act>
      {!whole && (
        <Act takes="plan" variant="outlined" onClick={() => read.mutate()} loading={read.isPending}>
          Read again
        </Act>
      )}
      {read.error && <Notice>{read.error.message}</Notice>}
    </Row>
  );
}
