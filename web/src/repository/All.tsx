import Button from "@mui/material/Button";
import { useMutation } from "@tanstack/react-query";

import { api, type RepositoryHead, take } from "../api/client";
import { count, size } from "../shell/format";
import { Act } from "../ui/Act";
import { ActionBar } from "../ui/ActionBar";
import { Notice } from "../ui/Notice";
import { State } from "./Shown";
import { Block, Row, Stack, Text } from "../ui/layout";
import { Press } from "../ui/Press";
import { Section } from "../ui/Section";

interface Props {
  all: RepositoryHead[];
  shown: number | undefined;
  pick: (id: number) => void;
  compare: (id: number) => void;
  plan: () => void;
  carry: () => void;
}

/** Every repository, and what can be done across them. */
export function All({ all, shown, pick, compare, plan, carry }: Props) {
  const here = all.find((r) => r.id === shown);
  const drop = useMutation({
    mutationFn: (id: number) => take(api.DELETE("/api/v1/repositories/{id}", { params: { path: { id } } })),
  });
  return (
    <Section title="Repositories" gap={1.25}>
      <ActionBar>
        <Button variant="outlined" onClick={plan}>
          Pack another
        </Button>
        <Act takes="keep" variant="outlined" onClick={carry}>
          Carry one in
        </Act>
      </ActionBar>
      {drop.error && <Notice title="Not dropped">{drop.error.message}</Notice>}
      <Stack as="ul" aria-label="Repositories" m={0} p={0} plain gap={0.5}>
        {all.map((r) => (
          <Block as="li" key={r.id} side={r.id === shown ? "water" : "rule"} pl={1.25} py={0.5}>
            <Press type="button" aria-current={r.id === shown} onClick={() => pick(r.id)} tone="plain">
              <strong>{r.name}</strong> <State repository={r} />
              <Text tone="quiet" size="note">
                edition {r.edition}, {count(r.payloads, "payload")}, {size(r.bytes)}
                {r.carried_from && ", carried in"}
              </Text>
            </Press>
            <Row gap={1.5}>
              {here && r.id !== here.id && (
                <Press
                  type="button"
                  aria-label={`What changed between ${r.name} edition ${r.edition} and the one shown`}
                  onClick={() => compare(r.id)}
                >
                  What changed
                </Press>
              )}
              {r.id === shown && (
                <Act
                  takes="keep"
                  variant="text"
                  why={r.state === "packing" ? "It is being packed." : null}
                  onClick={() => drop.mutate(r.id)}
                  size="inline"
                  color="quiet"
                >
                  Drop it
                </Act>
              )}
            </Row>
          </Block>
        ))}
      </Stack>
    </Section>
  );
}
