import Autocomplete from "@mui/material/Autocomplete";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import { useState } from "react";

import { Act } from "../ui/Act";
import { ActionBar } from "../ui/ActionBar";
import type { Rule } from "./draft";
import { Row } from "../ui/layout";
import { Press } from "../ui/Press";

/** What conditions can be chosen from. */
export interface Options {
  kind: string[];
  product: string[];
  model: string[];
  group: string[];
  server: string[];
}
const KEYS: (keyof Options)[] = ["kind", "product", "model", "group", "server"];
const DOES: [string, string][] = [
  ["hold", "Hold as it is"],
  ["pin", "Pin to a version"],
  ["wait", "Wait until it is old enough"],
  ["take", "Take the newest"],
];

const listOf = (value: string | string[] | undefined): string[] =>
  value === undefined ? [] : typeof value === "string" ? [value] : value;

/** Why a rule can't be put in yet, or null. */
export function whyNot(rule: Rule): string | null {
  if (rule.do === "pin" && !rule.version) return "Say which version to pin to.";
  if (rule.do === "wait" && (rule.days === undefined || Number.isNaN(rule.days) || rule.days < 0))
    return "Say how many days to wait.";
  if (
    rule.unless_score !== undefined &&
    (Number.isNaN(rule.unless_score) || rule.unless_score < 0 || rule.unless_score > 10)
  )
    return "Scores go from 0 to 10.";
  if (rule.do !== "take" && !rule.reason) return "Say why: whoever comes next has to know.";
  return null;
}

/** One rule, written in place. */
export function RuleEditor({
  start,
  options,
  save,
  cancel,
}: {
  start: Rule;
  options: Options;
  save: (rule: Rule) => void;
  cancel: () => void;
}) {
  const [rule, setRule] = useState<Rule>(start);
  const [open, setOpen] = useState<(keyof Options)[]>(KEYS.filter((k) => start.where?.[k]));
  const set = (next: Partial<Rule>) => setRule({ ...rule, ...next });
  const setWhere = (key: string, values: string[]) => {
    const others = Object.entries(rule.where ?? {}).filter(([other]) => other !== key);
    set({ where: Object.fromEntries(values.length ? [...others, [key, values]] : others) });
  };
  const done = () => {
    const { version, days, unless_score, where, until, ...rest } = rule;
    save({
      ...rest,
      ...(where && Object.keys(where).length ? { where } : {}),
      ...(until ? { until } : {}),
      ...(rule.do === "pin" && version ? { version } : {}),
      ...(rule.do === "wait" ? { days: days ?? 0 } : {}),
      ...(rule.do === "wait" && unless_score !== undefined ? { unless_score } : {}),
    });
  };
  return (
    <Box
      role="form"
      aria-label="Rule"
      sx={{ display: "grid", gap: 1.25, cursor: "auto" }}
      onKeyDown={(e) => e.stopPropagation()}
    >
      <TextField select size="small" label="Do" value={rule.do} onChange={(e) => set({ do: e.target.value })}>
        {DOES.map(([value, label]) => (
          <MenuItem key={value} value={value}>
            {label}
          </MenuItem>
        ))}
      </TextField>
      {open.map((key) => (
        <Autocomplete
          key={key}
          multiple
          freeSolo={key === "server"}
          size="small"
          options={options[key]}
          value={listOf(rule.where?.[key])}
          onChange={(_, values) => setWhere(key, values)}
          renderInput={(params) => <TextField {...params} label={`Where ${key} is`} />}
        />
      ))}
      <Row wrap gap={1.25} align="center" size="note">
        {open.length ? "and where" : "For everything, or where"}
        {KEYS.filter((k) => !open.includes(k)).map((k) => (
          <Press type="button" key={k} onClick={() => setOpen([...open, k])}>
            {k}
          </Press>
        ))}
      </Row>
      {rule.do === "pin" && (
        <TextField
          size="small"
          label="Version"
          value={rule.version ?? ""}
          onChange={(e) => set({ version: e.target.value })}
        />
      )}
      {rule.do === "wait" && (
        <Box sx={{ display: "grid", gridTemplateColumns: "1fr 1fr", gap: 1 }}>
          <TextField
            size="small"
            label="Days old"
            type="number"
            value={rule.days ?? ""}
            onChange={(e) => set({ days: Number.parseInt(e.target.value, 10) })}
          />
          <TextField
            size="small"
            label="Unless scored"
            type="number"
            value={rule.unless_score ?? ""}
            onChange={(e) => set({ unless_score: e.target.value ? Number(e.target.value) : undefined })}
          />
        </Box>
      )}
      <TextField
        size="small"
        label="Reason"
        multiline
        value={rule.reason ?? ""}
        onChange={(e) => set({ reason: e.target.value })}
      />
      <TextField
        size="small"
        label="Until (optional)"
        type="date"
        value={rule.until ?? ""}
        onChange={(e) => set({ until: e.target.value })}
        slotProps={{ inputLabel: { shrink: true } }}
      />
      <ActionBar>
        <Act variant="contained" why={whyNot(rule)} onClick={done}>
          Put it in
        </Act>
        <Button variant="outlined" onClick={cancel}>
          Cancel
        </Button>
      </ActionBar>
    </Box>
  );
}
