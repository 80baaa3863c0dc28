import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";

import type { Run } from "../api/client";
import { count } from "../shell/format";
import { Text } from "../ui/layout";
import { Notice } from "../ui/Notice";
import { Section } from "../ui/Section";
import { useSheetChange } from "./useSheet";

/** What of a sheet may be done before its window and its waves, in service; and what is dangerous about it. */
export function Ahead({ run }: { run: Run }) {
  const change = useSheetChange(run);
  if (!run.windows.length && !run.waves.length) return null;
  const bear = run.servers.filter((lane) => lane.plan.some((span) => span.ahead)).length;
  return (
    <Section title="Before the window">
      <TextField
        select
        fullWidth
        size="small"
        label="Until a server’s turn comes"
        value={run.ahead}
        onChange={(e) => change.mutate({ ahead: e.target.value === "writing" ? "writing" : "nothing" })}
        sx={{ mt: 1 }}
      >
        <MenuItem value="nothing">nothing is done</MenuItem>
        <MenuItem value="writing">what waits for a reset is written</MenuItem>
      </TextField>
      {run.ahead === "writing" && (
        <Text size="note" tone={bear ? "plain" : "quiet"} mt={0.5}>
          {bear
            ? `${count(bear, "server")} of ${run.count}: written in service from the start on, reset in the window. If one is restarted before, by whomever, it comes up with what was written.`
            : "Nobody on it has a first round that waits for a reset and bears company."}
        </Text>
      )}
      {change.error && <Notice>{change.error.message}</Notice>}
    </Section>
  );
}
