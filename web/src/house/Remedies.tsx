import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";

import type { House } from "../api/client";
import { KINDS } from "../waterline/words";
import { Act } from "../ui/Act";
import { Field } from "../ui/Field";
import { Block, Row, Stack, Text } from "../ui/layout";

/** What each remedy is called, in the order in which they are tried. */
const WORDS: readonly (readonly [string, string])[] = [
  ["alone", "That update alone"],
  ["restart first", "Restart the controller first"],
  ["release between", "Write a release between the two first"],
  ["another way", "Bring it another way"],
  ["disc out", "Take its disc out and start its own system"],
  ["put back", "Put back what was done"],
];
const CHOICES: readonly (readonly [string, string])[] = [
  ["automatic", "tried by itself"],
  ["ask", "a person is asked"],
  ["never", "never"],
];

/** What may be tried when an update fails, before a server is left to a person. */
export function Remedies({
  chosen,
  choose,
  refused,
}: {
  chosen: House["remedies"];
  choose: (chosen: House["remedies"]) => void;
  refused: Error | null;
}) {
  return (
    <Stack as="section" gap={1} aria-label="When an update fails">
      <Text size="body" strong>
        When an update fails
      </Text>
      {WORDS.map(([remedy, words]) => (
        <Field
          key={remedy}
          select
          fullWidth
          field="remedies"
          refused={refused}
          label={words}
          value={chosen[remedy] ?? "never"}
          onChange={(e) => choose({ ...chosen, [remedy]: e.target.value })}
        >
          {CHOICES.map(([choice, said]) => (
            <MenuItem key={choice} value={choice}>
              {said}
            </MenuItem>
          ))}
        </Field>
      ))}
      <Text size="note" tone="quiet">
        In this order, each once on a server in a run. What is put back is never on a sheet that was approved.
      </Text>
    </Stack>
  );
}

type Exception = House["remedy_exceptions"][number];

/** Where it is otherwise for a model or a kind of component; the first that fits holds. */
export function Exceptions({
  chosen,
  choose,
  refused,
}: {
  chosen: Exception[];
  choose: (chosen: Exception[]) => void;
  refused: Error | null;
}) {
  const put = (at: number, part: Partial<Exception>) =>
    choose(chosen.map((one, number) => (number === at ? { ...one, ...part } : one)));
  const [alone] = WORDS[WORDS.length - 1] ?? ["put back"];
  return (
    <Stack as="section" gap={1} aria-label="Otherwise for some">
      <Text size="body" strong>
        Otherwise for some
      </Text>
      {chosen.map((one, at) => (
        <Stack key={at} as="section" gap={0.75} aria-label={`Exception ${at + 1}`}>
          <Select
            label="When it would"
            value={one.remedy}
            of={WORDS.map(([remedy, words]) => [remedy, words] as const)}
            onPick={(remedy) => put(at, { remedy })}
          />
          <Row gap={1}>
            <Select
              label="On"
              value={one.kind ?? ""}
              of={[["", "any component"], ...Object.entries(KINDS)]}
              onPick={(kind) => put(at, { kind })}
            />
            <Field
              fullWidth
              field="remedy_exceptions"
              refused={refused}
              label="Of the model"
              placeholder="any"
              value={one.model ?? ""}
              onChange={(e) => put(at, { model: e.target.value })}
            />
          </Row>
          <Row gap={1} align="center">
            <Select label="Then" value={one.choice} of={CHOICES} onPick={(choice) => put(at, { choice })} />
            <Act
              takes="keep"
              variant="text"
              aria-label={`Take exception ${at + 1} away`}
              onClick={() => choose(chosen.filter((_, number) => number !== at))}
            >
              ✕
            </Act>
          </Row>
        </Stack>
      ))}
      <Block>
        <Act
          takes="keep"
          variant="outlined"
          onClick={() => choose([...chosen, { remedy: alone, choice: "never", model: "", kind: "bios" }])}
        >
          Add an exception
        </Act>
      </Block>
      {chosen.length > 0 && (
        <Text size="note" tone="quiet">
          The first that fits holds. What touches several components goes by the most cautious word on one of
          them.
        </Text>
      )}
    </Stack>
  );
}

function Select({
  label,
  value,
  of,
  onPick,
}: {
  label: string;
  value: string;
  of: readonly (readonly [string, string])[];
  onPick: (value: string) => void;
}) {
  return (
    <TextField
      size="small"
      fullWidth
      select
      label={label}
      value={value}
      onChange={(e) => onPick(e.target.value)}
    >
      {of.map(([key, words]) => (
        <MenuItem key={key} value={key}>
          {words}
        </MenuItem>
      ))}
    </TextField>
  );
}
