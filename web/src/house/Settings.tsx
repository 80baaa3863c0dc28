import Checkbox from "@mui/material/Checkbox";
import FormControlLabel from "@mui/material/FormControlLabel";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";

import { api, type House, type HouseChange, take } from "../api/client";
import { Act } from "../ui/Act";
import { ActionBar } from "../ui/ActionBar";
import { Field, Unsaid } from "../ui/Field";
import { Row, Stack, Text } from "../ui/layout";
import { Title } from "../ui/text";
import { Exceptions, Remedies } from "./Remedies";
import { readNumbers, tellNumbers } from "./numbers";

const FIELDS = [
  "zone",
  "at_once",
  "transfers",
  "bytes_per_second",
  "certainty",
  "patience_minutes",
  "stop_share",
  "remedies",
  "remedy_exceptions",
  "reading_hours",
  "racks",
  "rooms",
];

type Texts = Record<
  | "zone"
  | "at_once"
  | "transfers"
  | "bytes_per_second"
  | "certainty"
  | "patience_minutes"
  | "stop_share"
  | "reading_hours"
  | "racks"
  | "rooms",
  string
>;

const textsOf = (house: House): Texts => ({
  zone: house.zone,
  at_once: house.at_once === null ? "" : String(house.at_once),
  transfers: String(house.transfers),
  bytes_per_second: house.bytes_per_second === null ? "" : String(house.bytes_per_second / 1e6),
  certainty: String(Math.round(house.certainty * 100)),
  patience_minutes: String(house.patience_minutes),
  stop_share: String(house.stop_share),
  reading_hours: String(house.reading_hours),
  racks: tellNumbers(house.racks),
  rooms: tellNumbers(house.rooms),
});

const changeOf = (
  texts: Texts,
  approval: boolean,
  starter_apart: boolean,
  remedies: House["remedies"],
  remedy_exceptions: House["remedy_exceptions"],
): HouseChange => ({
  zone: texts.zone.trim(),
  at_once: texts.at_once.trim() ? Number(texts.at_once) : null,
  transfers: Number(texts.transfers),
  bytes_per_second: texts.bytes_per_second.trim() ? Math.round(Number(texts.bytes_per_second) * 1e6) : null,
  certainty: Number(texts.certainty) / 100,
  patience_minutes: Number(texts.patience_minutes),
  stop_share: Number(texts.stop_share),
  reading_hours: Number(texts.reading_hours),
  racks: readNumbers(texts.racks),
  rooms: readNumbers(texts.rooms),
  approval,
  starter_apart,
  remedies,
  remedy_exceptions,
});

/** What holds for every run: limits, certainty, approval. */
export function Settings({ house }: { house: House }) {
  const [told, tell] = useState<Texts | null>(null);
  const [approval, wantApproval] = useState(house.approval);
  const [apart, wantApart] = useState(house.starter_apart);
  const [remedies, chooseRemedies] = useState(house.remedies);
  const [exceptions, chooseExceptions] = useState(house.remedy_exceptions);
  const queries = useQueryClient();
  const save = useMutation({
    mutationFn: (body: HouseChange) => take(api.PUT("/api/v1/house", { body })),
    onSuccess: (fresh) => {
      queries.setQueryData(["house"], fresh);
      tell(null);
    },
  });
  const texts = told ?? textsOf(house);
  const isChanged =
    told !== null ||
    approval !== house.approval ||
    apart !== house.starter_apart ||
    JSON.stringify([remedies, exceptions]) !== JSON.stringify([house.remedies, house.remedy_exceptions]);
  const submit = (event: FormEvent) => {
    event.preventDefault();
    save.mutate(changeOf(texts, approval, apart, remedies, exceptions));
  };
  const field = (name: keyof Texts, label: string, more: Partial<Parameters<typeof Field>[0]> = {}) => (
    <Field
      fullWidth
      field={name}
      refused={save.error}
      label={label}
      value={texts[name]}
      onChange={(e) => tell({ ...texts, [name]: e.target.value })}
      {...more}
    />
  );
  return (
    <Stack as="form" onSubmit={submit} gap={1.5} start aria-label="Settings of the house">
      <Title level={2}>For every run</Title>
      {field("zone", "Zone of the wall clock")}
      <Row gap={1}>
        {field("at_once", "Servers at once", { placeholder: String(house.usual_at_once) })}
        {field("certainty", "Back in time, %")}
      </Row>
      <Row gap={1}>
        {field("transfers", "Transfers at once")}
        {field("bytes_per_second", "Link, MB a second", { placeholder: "not known" })}
      </Row>
      {field("racks", "May be away of racks", { multiline: true, placeholder: "K1: 3" })}
      {field("rooms", "May be away of rooms", { multiline: true, placeholder: "Kelp room: 10" })}
      <Remedies chosen={remedies} choose={chooseRemedies} refused={save.error} />
      <Exceptions chosen={exceptions} choose={chooseExceptions} refused={save.error} />
      {field("stop_share", "Hold the rest if more failed than, %")}
      {field("patience_minutes", "Waits for a person or a hook, minutes")}
      {field("reading_hours", "A reading is old after, hours")}
      <FormControlLabel
        control={
          <Checkbox size="small" checked={approval} onChange={(e) => wantApproval(e.target.checked)} />
        }
        label="A second person approves each sheet"
      />
      <FormControlLabel
        control={<Checkbox size="small" checked={apart} onChange={(e) => wantApart(e.target.checked)} />}
        label="Who starts a run neither drafted nor approved it"
      />
      <Unsaid error={save.error} fields={FIELDS} />
      <ActionBar>
        <Act
          takes="keep"
          type="submit"
          variant="contained"
          loading={save.isPending}
          why={isChanged ? null : "Nothing is changed yet."}
        >
          Decide
        </Act>
        {save.isSuccess && !isChanged && (
          <Text as="span" role="status" size="small" tone="quiet">
            Holds from now on.
          </Text>
        )}
      </ActionBar>
      <Text size="small" tone="quiet">
        The timetable, the forecast and the engine keep to these alike. They stand on each sheet: changing a
        limit ends the approvals of sheets that it concerns.
      </Text>
    </Stack>
  );
}
