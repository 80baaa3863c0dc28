import MenuItem from "@mui/material/MenuItem";

import type { House } from "../api/client";
import { Field } from "../ui/Field";
import { Stack, Text } from "../ui/layout";

/** What each remedy is called, in the order in which they are tried. */
const WORDS: readonly (readonly [string, string])[] = [
  ["alone", "That update alone"],
  ["restart first", "Restart the controller first"],
  ["release between", "Write a release between the two first"],
  ["another way", "Bring it another way"],
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
