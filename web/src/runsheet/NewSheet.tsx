import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link as RouterLink, useNavigate } from "react-router";
import Link from "@mui/material/Link";

import { api, take } from "../api/client";
import { groups as groupsQuery, windows as windowsQuery } from "../api/queries";
import { clock, count, day } from "../shell/format";
import { Act } from "../ui/Act";
import { Row, Stack, Text } from "../ui/layout";
import { Notice } from "../ui/Notice";

const ALL = "all";
const EXPOSED = "exposed";
const SELECTED = "selected";

/** Whom a new sheet is for, and into which window it is laid: what does not fit there is left over, with the reason. */
export function NewSheet({ names }: { names: string[] }) {
  const [whom, choose] = useState<string | null>(null);
  const [window, lay] = useState("");
  const { data: groups = [] } = useQuery(groupsQuery);
  const { data: windows = [] } = useQuery(windowsQuery);
  const navigate = useNavigate();
  const usual = names.length ? SELECTED : ALL;
  const chosen = whom === SELECTED && !names.length ? ALL : (whom ?? usual);
  const plan = useMutation({
    mutationFn: () =>
      take(
        api.POST("/api/v1/runs", {
          body: {
            name: "",
            servers: chosen === SELECTED ? names : [],
            window,
            exposed: chosen === EXPOSED,
            group: chosen.startsWith("group ") ? chosen.slice(6) : "",
          },
        }),
      ),
    onSuccess: (run) => void navigate(`/run-sheet/${run.id}`),
  });
  const words: Record<string, string> = {
    [SELECTED]: count(names.length, "selected server"),
    [ALL]: "all servers that need something",
    [EXPOSED]: "everything exposed",
  };
  return (
    <Stack gap={1} left>
      <Row gap={1} wrap align="center">
        <TextField
          size="small"
          select
          label="For"
          value={chosen}
          onChange={(e) => choose(e.target.value)}
          sx={{ minWidth: 230 }}
        >
          {names.length > 0 && <MenuItem value={SELECTED}>{words[SELECTED]}</MenuItem>}
          <MenuItem value={ALL}>{words[ALL]}</MenuItem>
          <MenuItem value={EXPOSED}>{words[EXPOSED]}</MenuItem>
          {groups
            .filter((g) => g.servers)
            .map((g) => (
              <MenuItem key={g.name} value={`group ${g.name}`}>
                {g.name}
              </MenuItem>
            ))}
        </TextField>
        <TextField
          size="small"
          select
          label="Into the window"
          value={window}
          onChange={(e) => lay(e.target.value)}
          sx={{ minWidth: 230 }}
          slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}
        >
          <MenuItem value="">whenever it is started</MenuItem>
          {windows
            .filter((w) => w.next)
            .map((w) => (
              <MenuItem key={w.id} value={w.name}>
                {w.name}, {w.next && `${day(new Date(w.next.start))} ${clock(new Date(w.next.start))}`}
              </MenuItem>
            ))}
        </TextField>
        <Act takes="plan" variant="contained" onClick={() => plan.mutate()} loading={plan.isPending}>
          Plan a run for {words[chosen] ?? chosen.slice(6)}
        </Act>
      </Row>
      <Text size="small" tone="quiet">
        {window
          ? "What does not fit into it is left over, each server with its reason."
          : "Without a window it may go on at any time once it is started."}{" "}
        <Link component={RouterLink} to="/house">
          Windows and limits of the house
        </Link>
      </Text>
      {plan.error && <Notice>{plan.error.message}</Notice>}
    </Stack>
  );
}
