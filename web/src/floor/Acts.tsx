import Box from "@mui/material/Box";
import { useMutation } from "@tanstack/react-query";
import { useNavigate } from "react-router";

import { Act, Trouble } from "../shell/parts";
import { readAgain } from "./orders";

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
  const chosen = whole ? "" : `&servers=${names.join(",")}`;
  return (
    <Box sx={{ display: "flex", flexWrap: "wrap", gap: 1 }}>
      <Act
        takes="plan"
        variant="contained"
        why={nothing}
        onClick={() => void navigate(`/run-sheet?new=1${chosen}`)}
      >
        Plan a run
      </Act>
      <Act
        takes="plan"
        variant="outlined"
        why={nothing}
        onClick={() => void navigate(`/repository?new=1${chosen}`)}
      >
        Pack
      </Act>
      {!whole && (
        <Act takes="plan" variant="outlined" onClick={() => read.mutate()} loading={read.isPending}>
          Read again
        </Act>
      )}
      {read.error && <Trouble>{read.error.message}</Trouble>}
    </Box>
  );
}
