import Checkbox from "@mui/material/Checkbox";
import FormControlLabel from "@mui/material/FormControlLabel";
import MenuItem from "@mui/material/MenuItem";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";

import { api, type Group, take } from "../api/client";
import { Act } from "../ui/Act";
import { ActionBar } from "../ui/ActionBar";
import { Field, Unsaid } from "../ui/Field";
import { Row, Stack, Text } from "../ui/layout";
import { Title } from "../ui/text";
import { hooks as hooksQuery } from "./queries";

type Who = Group["mover"];

const FIELDS = ["may_be_away", "mover", "healer", "hook", "off_seconds", "back_seconds", "heal_seconds"];

interface Told {
  away: string;
  mover: Who;
  healer: Who;
  hook: string;
  off: string;
  back: string;
  heals: string;
  between: boolean;
}

const toldOf = (group: Group): Told => ({
  away: String(group.may_be_away),
  mover: group.mover,
  healer: group.healer,
  hook: group.hook,
  off: String(Math.round(group.off_seconds / 60)),
  back: String(Math.round(group.back_seconds / 60)),
  heals: String(Math.round(group.heal_seconds / 60)),
  between: group.between,
});

const changeOf = (told: Told) => ({
  may_be_away: Number(told.away),
  mover: told.mover,
  healer: told.healer,
  hook: told.hook,
  off_seconds: Number(told.off) * 60,
  back_seconds: Number(told.back) * 60,
  heal_seconds: Number(told.heals) * 60,
  between: told.between,
});

/** How a group lets its servers go: how many, who moves their work, and when it is whole again. */
export function GroupEditor({ group, done }: { group: Group; done: () => void }) {
  const [told, tell] = useState(toldOf(group));
  const { data: hooks = [] } = useQuery(hooksQuery);
  const queries = useQueryClient();
  const change = useMutation({
    mutationFn: () =>
      take(
        api.PATCH("/api/v1/groups/{name}", { params: { path: { name: group.name } }, body: changeOf(told) }),
      ),
    onSuccess: async () => {
      await queries.invalidateQueries({ queryKey: ["groups"] });
      done();
    },
  });
  const set = (more: Partial<Told>) => tell({ ...told, ...more });
  const isChanged = JSON.stringify(told) !== JSON.stringify(toldOf(group));
  const asksHook = told.mover === "hook" || told.healer === "hook";
  const submit = (event: FormEvent) => {
    event.preventDefault();
    change.mutate();
  };
  const number = (name: "away" | "off" | "back" | "heals", field: string, label: string) => (
    <Field
      fullWidth
      field={field}
      refused={change.error}
      label={label}
      value={told[name]}
      onChange={(e) => set({ [name]: e.target.value })}
      slotProps={{ htmlInput: { inputMode: "numeric" } }}
    />
  );
  return (
    <Stack as="form" onSubmit={submit} gap={1.5} start aria-label={`Group ${group.name}`}>
      <Title level={2}>{group.name}</Title>
      {number("away", "may_be_away", "May be away together")}
      <Chooser
        label="Before one goes away, its work"
        value={told.mover}
        field="mover"
        error={change.error}
        words={["need not be moved", "is moved off by a person", "is moved off by a hook"]}
        choose={(mover) => set({ mover })}
      />
      {told.mover && (
        <>
          <Row gap={1}>
            {number("off", "off_seconds", "Moving off, minutes")}
            {number("back", "back_seconds", "Taking back, minutes")}
          </Row>
          <FormControlLabel
            control={
              <Checkbox
                size="small"
                checked={told.between}
                onChange={(e) => set({ between: e.target.checked })}
              />
            }
            label="Its work comes back between two outages"
          />
        </>
      )}
      <Chooser
        label="The next may go"
        value={told.healer}
        field="healer"
        error={change.error}
        words={["after a time", "when a person says that it is whole", "when a hook says that it is whole"]}
        choose={(healer) => set({ healer })}
      />
      {number("heals", "heal_seconds", told.healer ? "Heals in about, minutes" : "Heals in, minutes")}
      {asksHook && (
        <Field
          select
          fullWidth
          field="hook"
          refused={change.error}
          label="Hook"
          value={hooks.some((hook) => hook.name === told.hook) ? told.hook : ""}
          onChange={(e) => set({ hook: e.target.value })}
          helperText={hooks.length ? undefined : "No hook is kept yet. Add one first."}
        >
          {hooks.map((hook) => (
            <MenuItem key={hook.id} value={hook.name}>
              {hook.name}
            </MenuItem>
          ))}
        </Field>
      )}
      <Text tone="quiet" size="body">
        A server whose work is not moved off is not reset. One whose work is not taken back keeps its place in
        the group, and a person is called.
      </Text>
      <Unsaid error={change.error} fields={FIELDS} />
      <ActionBar>
        <Act
          takes="keep"
          type="submit"
          variant="contained"
          loading={change.isPending}
          why={isChanged ? null : "Nothing is changed yet."}
        >
          Change
        </Act>
        <Act variant="outlined" onClick={done}>
          Close
        </Act>
      </ActionBar>
    </Stack>
  );
}

const WHO: readonly Who[] = ["", "person", "hook"];

function Chooser({
  label,
  value,
  field,
  error,
  words,
  choose,
}: {
  label: string;
  value: Who;
  field: string;
  error: Error | null;
  words: readonly [string, string, string];
  choose: (who: Who) => void;
}) {
  return (
    <Field
      select
      fullWidth
      field={field}
      refused={error}
      label={label}
      value={value}
      onChange={(e) => choose(WHO.find((who) => who === e.target.value) ?? "")}
      slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}
    >
      {WHO.map((who, at) => (
        <MenuItem key={who} value={who}>
          {words[at]}
        </MenuItem>
      ))}
    </Field>
  );
}
