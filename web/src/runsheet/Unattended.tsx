import Checkbox from "@mui/material/Checkbox";
import FormControlLabel from "@mui/material/FormControlLabel";
import { useState } from "react";

import type { Run } from "../api/client";
import { count } from "../shell/format";
import { Act } from "../ui/Act";
import { Block, Text } from "../ui/layout";
import { Notice } from "../ui/Notice";
import { Section } from "../ui/Section";
import { useSheetChange } from "./useSheet";

/** Leaving the reboots of a sheet to whenever they come: what is dangerous about it, and a confirmation of its own. */
export function Unattended({ run }: { run: Run }) {
  const change = useSheetChange(run);
  const [isSure, beSure] = useState(false);
  if (run.takes_back !== null) return null;
  const left = run.servers.filter((lane) => !lane.rounds.length).length;
  return (
    <Section title="Reboots">
      {run.unattended ? (
        <>
          <Notice title="Left to whenever they come">
            This run resets no system. What it writes becomes active when somebody, or a fault, restarts a
            server; nobody of yours may be there, and no check follows. Each stays called as waiting until a
            reading shows it.
            {left > 0 && ` ${count(left, "server")} can’t be left so: nothing is sent there.`}
          </Notice>
          <Block mt={1}>
            <Act
              takes="plan"
              variant="outlined"
              loading={change.isPending}
              onClick={() => change.mutate({ unattended: false })}
            >
              Carry the reboots out
            </Act>
          </Block>
        </>
      ) : (
        <>
          <Text size="body" mt={0.5}>
            Carried out by this run, each followed by its check.
          </Text>
          <FormControlLabel
            control={<Checkbox checked={isSure} onChange={(e) => beSure(e.target.checked)} />}
            label="I know that a server may come up with new firmware when nobody is there"
          />
          <Act
            takes="plan"
            variant="outlined"
            color="error"
            why={isSure ? null : "Say first that you know what it means."}
            loading={change.isPending}
            onClick={() =>
              change.mutate({ unattended: true, sure: true }, { onSuccess: () => beSure(false) })
            }
          >
            Leave them to the next reboot
          </Act>
        </>
      )}
      {change.error && <Notice>{change.error.message}</Notice>}
    </Section>
  );
}
