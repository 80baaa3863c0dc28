import Box from "@mui/material/Box";
import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { ask } from "../api/refused";
import { revisions as revisionsQuery } from "../api/queries";
import { compared, revision as revisionQuery } from "./queries";
import { day } from "../shell/format";
import { Notice } from "../ui/Notice";
import { Mono } from "../ui/text";
import { ofRevision, type Proposal } from "./draft";
import { EffectTable } from "./EffectPanel";
import { Block, Row, Stack, Text } from "../ui/layout";
import { Press } from "../ui/Press";
import { Section } from "../ui/Section";

/** Every revision that was made; two can be compared, an old one can be the start of a new one. */
export function Revisions({ number, start }: { number: number; start: (wanted: Proposal) => void }) {
  const queries = useQueryClient();
  const { data = [] } = useQuery(revisionsQuery);
  const [pair, setPair] = useState<[number, number]>([Math.max(1, number - 1), number]);
  const take = async (n: number) => start(ofRevision(await queries.fetchQuery(revisionQuery(n))));
  return (
    <Stack gap={2}>
      <Section title="Revisions">
        <Text as="ol" m={0} mt={0.75} p={0} plain size="body">
          {data.map((r) => (
            <Stack
              as="li"
              key={r.number}
              ruled
              py={0.9}
              style={{ gridTemplateColumns: "34px minmax(0,1fr)" }}
            >
              <Mono>r{r.number}</Mono>
              <Box>
                <Box>{r.note || "No note."}</Box>
                <Text tone="quiet">
                  {r.made_by}, {day(new Date(r.made_at))}
                  {r.frozen ? "" : "; issues as they come"}
                  {r.number === number ? "; holds now" : ""}
                </Text>
                {r.number !== number && (
                  <Press type="button" onClick={() => ask(take(r.number))}>
                    Begin a draft from r{r.number}
                  </Press>
                )}
              </Box>
            </Stack>
          ))}
        </Text>
      </Section>
      {data.length > 1 && (
        <Section title="Compare" gap={1}>
          <Row gap={1} align="center">
            {[0, 1].map((side) => (
              <TextField
                key={side}
                select
                size="small"
                label={side ? "with" : "Revision"}
                value={pair[side]}
                onChange={(e) =>
                  setPair(side ? [pair[0], Number(e.target.value)] : [Number(e.target.value), pair[1]])
                }
                sx={{ minWidth: 96 }}
              >
                {data.map((r) => (
                  <MenuItem key={r.number} value={r.number}>
                    r{r.number}
                  </MenuItem>
                ))}
              </TextField>
            ))}
          </Row>
          <Differences one={pair[0]} other={pair[1]} />
        </Section>
      )}
    </Stack>
  );
}

function Differences({ one, other }: { one: number; other: number }) {
  const { data, error } = useQuery(compared(one, other));
  if (error) return <Notice>{error.message}</Notice>;
  if (!data) return null;
  return (
    <Stack gap={1} size="body">
      {data.differences.length === 0 ? (
        <Box>They want the same.</Box>
      ) : (
        <Block as="ul" aria-label="What was changed" m={0} pl={2}>
          {data.differences.map((d) => (
            <li key={d}>{d}</li>
          ))}
        </Block>
      )}
      <Text tone="quiet">
        On the fleet as it is today, r{other} against r{one}:
      </Text>
      <EffectTable effect={data.effect} />
    </Stack>
  );
}
