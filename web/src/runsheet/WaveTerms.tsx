import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import { useState } from "react";

import { clock } from "../shell/format";
import { Act } from "../ui/Act";
import { Row } from "../ui/layout";
import type { WaveDraft } from "./waves";
import { nextTime } from "./WhatIf";

type Put = (part: Partial<WaveDraft>) => void;

interface NotBeforeProps {
  wave: WaveDraft;
  /** When the sheet begins: a time told is the next after that. */
  begin: number;
  ask: (part: Partial<WaveDraft> | null) => void;
  put: Put;
}

/** Before which time none of a wave begins; what it would mean is told while it is typed. */
export function NotBefore({ wave, begin, ask, put }: NotBeforeProps) {
  const kept = wave.not_before ? clock(new Date(wave.not_before)) : "";
  const [told, tell] = useState<string | null>(null);
  const time = told ?? kept;
  const at = (text: string) => (text ? nextTime(new Date(begin), text)?.toISOString() : null) ?? null;
  const settle = () => {
    if (told !== null && told !== kept) put({ not_before: at(told) });
    tell(null);
  };
  return (
    <Row gap={1} mt={1.25} align="center">
      <TextField
        size="small"
        type="time"
        label="Not before"
        value={time}
        onChange={(e) => {
          tell(e.target.value);
          ask(e.target.value ? { not_before: at(e.target.value) } : null);
        }}
        onBlur={settle}
        onKeyDown={(e) => e.key === "Enter" && settle()}
        slotProps={{ inputLabel: { shrink: true }, htmlInput: { "aria-label": `${wave.name} not before` } }}
      />
      {wave.not_before && (
        <Act takes="plan" variant="text" onClick={() => put({ not_before: null })}>
          At its turn
        </Act>
      )}
    </Row>
  );
}

/** What is waited for before the next wave begins. */
export function After({ wave, put }: { wave: WaveDraft; put: Put }) {
  const [told, tell] = useState<string | null>(null);
  const minutes = told ?? String(Math.round(wave.wait_seconds / 60));
  const settle = () => {
    const asked = Math.round(Number(minutes) * 60);
    if (told !== null && Number.isFinite(asked) && asked !== wave.wait_seconds)
      put({ wait_seconds: Math.max(0, asked) });
    tell(null);
  };
  return (
    <Row gap={1} mt={1.25}>
      <TextField
        size="small"
        label="Then wait, minutes"
        value={minutes}
        onChange={(e) => tell(e.target.value)}
        onBlur={settle}
        onKeyDown={(e) => e.key === "Enter" && settle()}
        slotProps={{
          htmlInput: { inputMode: "numeric", "aria-label": `Minutes to wait after ${wave.name}` },
        }}
        sx={{ width: 130 }}
      />
      <TextField
        size="small"
        select
        label="Then"
        value={wave.gate}
        onChange={(e) => put({ gate: e.target.value === "person" ? "person" : "none" })}
        sx={{ flex: 1 }}
      >
        <MenuItem value="none">it goes on by itself</MenuItem>
        <MenuItem value="person">a person lets it go on</MenuItem>
      </TextField>
    </Row>
  );
}
