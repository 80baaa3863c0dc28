import Button from "@mui/material/Button";
import MenuItem from "@mui/material/MenuItem";
import ToggleButton from "@mui/material/ToggleButton";
import ToggleButtonGroup from "@mui/material/ToggleButtonGroup";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";

import { api, type MaintenanceWindow, take, type WindowChange } from "../api/client";
import { Act } from "../ui/Act";
import { ActionBar } from "../ui/ActionBar";
import { Field, Unsaid } from "../ui/Field";
import { Row, Stack, Text } from "../ui/layout";
import { Title } from "../ui/text";
import {
  type Day,
  DAY_NAMES,
  DAYS,
  NTHS,
  ONCE,
  readRule,
  type Recurrence,
  spellRule,
  tellNth,
  tellRule,
  type Times,
  TIMES,
} from "./recurrence";

const FIELDS = ["name", "first", "opens", "closes", "nights", "rule", "without"];
const WORDS: Record<Times, string> = {
  once: "once",
  daily: "every night",
  weekly: "on days of the week",
  monthly: "on a day of the month",
};
const CLOSES = ["the same day", "the next day", "two days later", "three days later"];

interface Props {
  window: MaintenanceWindow | null;
  zone: string;
  today: string;
  done: () => void;
}

/** A window: when it first opens and closes by the wall clock, and how it comes again. */
export function WindowEditor({ window: was, zone, today, done }: Props) {
  const [told, tell] = useState<WindowChange>({
    name: was?.name ?? "",
    first: was?.first ?? today,
    opens: was?.opens ?? "22:00",
    closes: was?.closes ?? "04:00",
    nights: was?.nights ?? 1,
    rule: was?.rule ?? "",
    without: was?.without ?? [],
  });
  const [without, leave] = useState((was?.without ?? []).join(", "));
  const queries = useQueryClient();
  const settled = {
    onSuccess: () => {
      for (const key of ["windows", "openings", "site"]) void queries.invalidateQueries({ queryKey: [key] });
      done();
    },
  };
  const keep = useMutation({
    mutationFn: () => {
      const body = { ...told, without: without.split(/[\s,]+/).filter(Boolean) };
      return was
        ? take(api.PUT("/api/v1/windows/{id}", { params: { path: { id: was.id } }, body }))
        : take(api.POST("/api/v1/windows", { body }));
    },
    ...settled,
  });
  const drop = useMutation({
    mutationFn: () => take(api.DELETE("/api/v1/windows/{id}", { params: { path: { id: was?.id ?? 0 } } })),
    ...settled,
  });
  const set = (change: Partial<WindowChange>) => tell({ ...told, ...change });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    keep.mutate();
  };
  const common = { refused: keep.error, fullWidth: true };
  return (
    <Stack as="form" onSubmit={submit} gap={1.5} start>
      <Row between align="baseline">
        <Title level={2}>{was ? was.name : "New window"}</Title>
        <Button variant="outlined" onClick={done}>
          Close
        </Button>
      </Row>
      <Field
        {...common}
        field="name"
        label="Name"
        value={told.name}
        onChange={(e) => set({ name: e.target.value })}
      />
      <Field
        {...common}
        field="first"
        label="First on"
        type="date"
        value={told.first}
        onChange={(e) => set({ first: e.target.value })}
        slotProps={{ inputLabel: { shrink: true } }}
      />
      <Row gap={1}>
        <Field
          {...common}
          field="opens"
          label="Opens"
          type="time"
          value={told.opens}
          onChange={(e) => set({ opens: e.target.value })}
        />
        <Field
          {...common}
          field="closes"
          label="Closes"
          type="time"
          value={told.closes}
          onChange={(e) => set({ closes: e.target.value })}
        />
      </Row>
      <Field
        {...common}
        field="nights"
        select
        label="Closes on"
        value={told.nights}
        onChange={(e) => set({ nights: Number(e.target.value) })}
      >
        {CLOSES.map((words, nights) => (
          <MenuItem key={nights} value={nights}>
            {words}
          </MenuItem>
        ))}
      </Field>
      <Again rule={told.rule ?? ""} change={(rule) => set({ rule })} refused={keep.error} />
      <Field
        {...common}
        field="without"
        label="Not on these days"
        placeholder="2026-12-24, 2026-12-31"
        value={without}
        onChange={(e) => leave(e.target.value)}
      />
      <Text size="small" tone="quiet">
        By the wall clock of {zone}: over the change of the clock it lasts an hour more or less. Sheets that
        were laid into it keep the times they have.
      </Text>
      <Unsaid error={keep.error ?? drop.error} fields={FIELDS} />
      <ActionBar>
        <Act
          takes="keep"
          type="submit"
          variant="contained"
          loading={keep.isPending}
          why={told.name.trim() ? null : "Give it a name."}
        >
          {was ? "Change it" : "Keep it"}
        </Act>
        {was && (
          <Act
            takes="keep"
            variant="outlined"
            color="error"
            loading={drop.isPending}
            onClick={() => drop.mutate()}
          >
            Delete {was.name}
          </Act>
        )}
      </ActionBar>
    </Stack>
  );
}

interface AgainProps {
  rule: string;
  change: (rule: string) => void;
  refused: Error | null;
}

/** How it comes again; a rule that says more than can be shown here is kept as it is. */
function Again({ rule, change, refused }: AgainProps) {
  const read = readRule(rule);
  if (!read)
    return (
      <Field
        field="rule"
        refused={refused}
        fullWidth
        label="Comes again (RFC 5545)"
        value={rule}
        onChange={(e) => change(e.target.value)}
      />
    );
  const set = (part: Partial<Recurrence>) => change(spellRule({ ...read, ...part }));
  return (
    <Stack gap={1.5}>
      <Field
        field="rule"
        refused={refused}
        fullWidth
        select
        label="Comes"
        value={read.times}
        helperText={read.times === "once" ? undefined : tellRule(rule)}
        onChange={(e) => {
          const times = e.target.value as Times;
          const days: Day[] = times === "weekly" || times === "monthly" ? ["TH"] : [];
          change(spellRule({ ...ONCE, times, days: read.days.length ? read.days.slice(0, 1) : days }));
        }}
      >
        {TIMES.map((times) => (
          <MenuItem key={times} value={times}>
            {WORDS[times]}
          </MenuItem>
        ))}
      </Field>
      {read.times === "monthly" && (
        <Field
          field="nth"
          refused={null}
          select
          fullWidth
          label="Which of the month"
          value={read.nth}
          onChange={(e) => set({ nth: Number(e.target.value) })}
        >
          {NTHS.map((nth) => (
            <MenuItem key={nth} value={nth}>
              the {tellNth(nth)}
            </MenuItem>
          ))}
        </Field>
      )}
      {(read.times === "weekly" || read.times === "monthly") && (
        <ToggleButtonGroup
          aria-label="Days"
          value={read.days}
          exclusive={false}
          onChange={(_, days: Day[]) => {
            const kept = read.times === "monthly" ? days.slice(-1) : days;
            if (kept.length) set({ days: kept });
          }}
        >
          {DAYS.map((day) => (
            <ToggleButton key={day} value={day} sx={{ px: 0.75 }}>
              {DAY_NAMES[day]}
            </ToggleButton>
          ))}
        </ToggleButtonGroup>
      )}
      {read.times !== "once" && (
        <Row gap={1}>
          <Field
            field="every"
            refused={null}
            fullWidth
            label="Every how many"
            type="number"
            value={read.every}
            onChange={(e) => set({ every: Math.min(52, Math.max(1, Number(e.target.value) || 1)) })}
          />
          <Field
            field="until"
            refused={null}
            fullWidth
            label="Until"
            type="date"
            value={read.until}
            onChange={(e) => set({ until: e.target.value })}
            slotProps={{ inputLabel: { shrink: true } }}
          />
        </Row>
      )}
    </Stack>
  );
}
