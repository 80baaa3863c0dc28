import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";

import type { Run } from "../api/client";
import { count, size } from "../shell/format";
import { Text } from "../ui/layout";
import { Notice } from "../ui/Notice";
import { Section } from "../ui/Section";
import { useSheetChange } from "./useSheet";

/** What brings the payloads of a sheet: the controllers themselves, or a disc that each server is started from. */
export function ByDisc({ run }: { run: Run }) {
  const change = useSheetChange(run);
  if (run.takes_back !== null || run.unattended) return null;
  const known = run.disc && !run.discs.some((disc) => disc.id === run.disc?.id) ? [run.disc] : [];
  const offered = [...known, ...run.discs];
  const left = run.servers.filter((lane) => !lane.rounds.length).length;
  return (
    <Section title="How it is brought">
      {offered.length > 0 && (
        <TextField
          select
          fullWidth
          size="small"
          label="What brings the payloads"
          value={run.disc?.id ?? 0}
          disabled={change.isPending}
          onChange={(e) => change.mutate({ disc: Number(e.target.value) })}
          sx={{ mt: 1 }}
        >
          <MenuItem value={0}>each controller fetches them, or is pushed them</MenuItem>
          {offered.map((disc) => (
            <MenuItem key={disc.id} value={disc.id}>
              a disc: {disc.name}, edition {disc.edition} ({size(disc.size)})
            </MenuItem>
          ))}
        </TextField>
      )}
      {run.disc ? (
        <Text size="note" mt={0.5}>
          The disc goes into each server’s virtual media, and the server is started from it: it is out of
          service from then until it is level. The field kit there sends what stands on this sheet and nothing
          else, and no order cuts into that. Then the disc is taken out, and its own system started.
          {left > 0 && ` ${count(left, "server")} can’t go by it: nothing is sent there.`}
        </Text>
      ) : (
        <Text size="note" tone="quiet" mt={0.5}>
          {offered.length
            ? "Where the network does not carry payloads to a controller, a disc in its virtual media does."
            : "Each controller fetches its payloads, or is pushed them. Where the network does not carry them there, a disc can: pack a repository whose discs boot by themselves, and write out a disc image."}
        </Text>
      )}
      {change.error && <Notice>{change.error.message}</Notice>}
    </Section>
  );
}
