import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import { useState } from "react";

import type { Choice, Drift } from "../api/client";
import { useAddress } from "../shell/selection";
import { VERDICTS } from "../waterline/words";
import { addressKey, tellFilter } from "./filtering";
import { Row } from "../ui/layout";

const plain = (value: string, label: string): Choice => ({ value, label, count: -1 });
const IMPORTANCES = [
  plain("security", "a security release"),
  plain("stability", "a stability release"),
  plain("routine", "routine releases only"),
];
const SCORES = ["9", "8", "7", "4"].map((s) => plain(s, `${s} and up`));

/** What is narrowed, each piece with its way out, and the fields to narrow further. */
export function Filters({ filters, facets }: { filters: Record<string, string>; facets: Drift["facets"] }) {
  const [, change] = useAddress();
  const [open, setOpen] = useState(false);
  const names = Object.fromEntries(facets.products.map((p) => [p.value, p.label]));
  const told = Object.entries(filters);
  return (
    <Row wrap gap={0.75} align="center" mb={1} className={told.length ? undefined : "no-print"}>
      {told.map(([key, value]) => (
        <Button
          key={key}
          variant="outlined"
          aria-label={`No longer narrow to: ${tellFilter(key, names[value] ?? value)} ×`}
          onClick={() => change({ [addressKey(key)]: null })}
          color="secondary"
        >
          {tellFilter(key, names[value] ?? value)} ×
        </Button>
      ))}
      {told.length > 1 && (
        <Button
          variant="text"
          onClick={() => change(Object.fromEntries(told.map(([key]) => [addressKey(key), null])))}
        >
          Show all
        </Button>
      )}
      <Button variant="text" color="secondary" aria-expanded={open} onClick={() => setOpen(!open)}>
        {open ? "Done narrowing" : "Narrow to…"}
      </Button>
      {!filters.only && (
        <Button variant="text" color="secondary" onClick={() => change({ only: "drift" })}>
          Only what drifts
        </Button>
      )}
      {open && (
        <Box
          sx={{
            display: "grid",
            gridTemplateColumns: "repeat(auto-fill, minmax(140px, 1fr))",
            gap: 1,
            width: "100%",
            pt: 0.5,
          }}
        >
          <Field name="Room" at="room" choices={facets.rooms} filters={filters} />
          <Field name="Rack" at="rack" choices={facets.racks} filters={filters} />
          <Field name="Group" at="group" choices={facets.groups} filters={filters} />
          <Field name="Model" at="model" choices={facets.models} filters={filters} />
          <Field name="Product" at="product" choices={facets.products} filters={filters} />
          <Field
            name="Verdict"
            at="verdict"
            choices={facets.verdicts.map((v) => ({ ...v, label: VERDICTS[v.value] ?? v.value }))}
            filters={filters}
          />
          <Field name="Missed" at="importance" choices={IMPORTANCES} filters={filters} />
          <Field name="Worst score missed" at="score" choices={SCORES} filters={filters} />
        </Box>
      )}
    </Row>
  );
}

function Field({
  name,
  at,
  choices,
  filters,
}: {
  name: string;
  at: string;
  choices: Choice[];
  filters: Record<string, string>;
}) {
  const [, change] = useAddress();
  const value = filters[at] ?? "";
  return (
    <TextField
      select
      size="small"
      label={name}
      value={choices.some((c) => c.value === value) ? value : ""}
      onChange={(e) => change({ [addressKey(at)]: e.target.value || null })}
    >
      <MenuItem value="">any</MenuItem>
      {choices.map((c) => (
        <MenuItem key={c.value} value={c.value}>
          {c.label}
          {c.count >= 0 ? ` (${c.count})` : ""}
        </MenuItem>
      ))}
    </TextField>
  );
}
