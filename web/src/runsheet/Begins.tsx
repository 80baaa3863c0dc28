import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import { useState } from "react";

import type { Run, RunServer } from "../api/client";
import { clock } from "../shell/format";
import { Act } from "../ui/Act";
import { ActionBar } from "../ui/ActionBar";
import { Row, Stack, Text } from "../ui/layout";
import { Notice } from "../ui/Notice";
import { tellTried } from "./tried";
import { useSheetChange, useTrial } from "./useSheet";
import { changeOf, moveServer, wavesOf } from "./waves";
import { nextTime } from "./WhatIf";

/** When one server of a draft begins, with which wave, whether a person lets it; or that it stays away from this sheet. */
export function Begins({
  run,
  lane,
  now,
  close,
}: {
  run: Run;
  lane: RunServer;
  now: number;
  close: () => void;
}) {
  const change = useSheetChange(run);
  const trial = useTrial(run);
  const [time, tell] = useState(lane.not_before ? clock(new Date(lane.not_before)) : "");
  const begin = run.lanes_from ? Date.parse(run.lanes_from) : now;
  const at = time ? nextTime(new Date(begin), time) : null;
  const wish = (pinned: boolean) => ({
    wishes: [{ server: lane.server, not_before: at ? at.toISOString() : null, pinned }],
  });
  const held = run.servers.filter((s) => s.hold).map((s) => s.server);
  const { told } = trial;
  return (
    <Stack gap={1} my={1}>
      {run.waves.length > 0 && (
        <TextField
          size="small"
          select
          label="Goes with wave"
          value={lane.wave}
          onChange={(e) => change.mutate(changeOf(moveServer(wavesOf(run), lane.server, e.target.value)))}
        >
          {run.waves.map((wave) => (
            <MenuItem key={wave.name} value={wave.name}>
              {wave.name}
            </MenuItem>
          ))}
        </TextField>
      )}
      <Row gap={1} align="center" wrap>
        <TextField
          size="small"
          type="time"
          label="Begins"
          value={time}
          onChange={(e) => {
            tell(e.target.value);
            const next = nextTime(new Date(begin), e.target.value);
            trial.ask(
              next && { wishes: [{ server: lane.server, not_before: next.toISOString(), pinned: true }] },
            );
          }}
          slotProps={{ inputLabel: { shrink: true } }}
        />
        <Act
          takes="plan"
          variant="outlined"
          why={at ? null : "Say when first."}
          onClick={() => change.mutate(wish(false))}
        >
          Not before
        </Act>
        <Act
          takes="plan"
          variant="outlined"
          why={at ? null : "Say when first."}
          onClick={() => change.mutate(wish(true))}
        >
          Just then
        </Act>
      </Row>
      {lane.not_before && (
        <Text size="small">
          {lane.pinned ? "Begins just at" : "Begins not before"} {clock(new Date(lane.not_before))}.{" "}
          <Act
            takes="plan"
            onClick={() => {
              tell("");
              change.mutate({ wishes: [{ server: lane.server }] });
            }}
          >
            Whenever there is room
          </Act>
        </Text>
      )}
      <Text role="status" size="small" strong>
        {told?.tried ? tellTried(told.tried) : (told?.error?.message ?? "")}
      </Text>
      <ActionBar>
        <Act
          takes="plan"
          variant="outlined"
          onClick={() =>
            change.mutate({
              hold: lane.hold ? held.filter((n) => n !== lane.server) : [...held, lane.server],
            })
          }
        >
          {lane.hold ? "It begins by itself" : "A person lets it begin"}
        </Act>
        <Act
          takes="plan"
          variant="outlined"
          onClick={() => change.mutate({ leave_out: [lane.server] }, { onSuccess: close })}
        >
          Leave it out
        </Act>
      </ActionBar>
      {change.error && <Notice>{change.error.message}</Notice>}
    </Stack>
  );
}
