import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import { useState } from "react";

import type { Run, SheetTrial } from "../api/client";
import { Row, Text } from "../ui/layout";
import { Section } from "../ui/Section";
import { tellTried } from "./tried";
import { useTrial } from "./useSheet";

interface Asked {
  start: string;
  group: string;
  more: string;
  at_once: string;
}

/** The next time that the clock shows this, from a moment on. */
export function nextTime(from: Date, told: string): Date | null {
  const [hours, minutes] = told.split(":").map(Number);
  if (hours === undefined || minutes === undefined || Number.isNaN(hours + minutes)) return null;
  const at = new Date(from);
  at.setHours(hours, minutes, 0, 0);
  if (at < from) at.setDate(at.getDate() + 1);
  return at;
}

function trialOf(asked: Asked, now: number): SheetTrial | null {
  const start = asked.start ? nextTime(new Date(now), asked.start) : null;
  const more = Number(asked.more);
  const trial: SheetTrial = {
    ...(start ? { start: start.toISOString() } : {}),
    ...(asked.group && more > 0 ? { more_away: { [asked.group]: more } } : {}),
    ...(Number(asked.at_once) > 0 ? { at_once: Number(asked.at_once) } : {}),
  };
  return Object.keys(trial).length ? trial : null;
}

/** "If I start at 22:30", "if four more may be away": asked, answered, and nothing is changed. */
export function WhatIf({ run, now }: { run: Run; now: number }) {
  const [asked, tell] = useState<Asked>({ start: "", group: "", more: "1", at_once: "" });
  const trial = useTrial(run);
  const set = (part: Partial<Asked>) => {
    const next = { ...asked, ...part };
    tell(next);
    trial.ask(trialOf(next, now));
  };
  const groups = [...new Set(run.servers.map((lane) => lane.group).filter(Boolean))].sort();
  const { told } = trial;
  return (
    <Section title="What if" gap={1}>
      <Row gap={1}>
        <TextField
          size="small"
          type="time"
          label="it starts at"
          value={asked.start}
          onChange={(e) => set({ start: e.target.value })}
          slotProps={{ inputLabel: { shrink: true } }}
          sx={{ flex: 1 }}
        />
        <TextField
          size="small"
          label="so many at once"
          value={asked.at_once}
          onChange={(e) => set({ at_once: e.target.value })}
          slotProps={{ htmlInput: { inputMode: "numeric" } }}
          sx={{ flex: 1 }}
        />
      </Row>
      {groups.length > 0 && (
        <Row gap={1}>
          <TextField
            size="small"
            label="so many more"
            value={asked.more}
            onChange={(e) => set({ more: e.target.value })}
            slotProps={{ htmlInput: { inputMode: "numeric" } }}
            sx={{ width: 104 }}
          />
          <TextField
            size="small"
            select
            label="may be away of"
            value={asked.group}
            onChange={(e) => set({ group: e.target.value })}
            sx={{ flex: 1, minWidth: 0 }}
          >
            <MenuItem value="">no group</MenuItem>
            {groups.map((group) => (
              <MenuItem key={group} value={group}>
                {group}
              </MenuItem>
            ))}
          </TextField>
        </Row>
      )}
      <Text role="status" size="body">
        {told?.tried ? tellTried(told.tried) : (told?.error?.message ?? "")}
      </Text>
    </Section>
  );
}
