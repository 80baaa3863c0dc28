import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import { useMutation } from "@tanstack/react-query";

import { api, type RepositoryHead, take } from "../api/client";
import { count, size } from "../shell/format";
import { Act } from "../ui/Act";
import { Notice } from "../ui/Notice";
import { Title } from "../ui/text";
import { ink } from "../theme/theme";
import { State } from "./Shown";
import { Row, Stack, Text } from "../ui/layout";
import { Press } from "../ui/Press";

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
    <Stack as="section" gap={1.25}>
      <Title level={2}>Repositories</Title>
      <Row gap={1}>
        <Button variant="outlined" onClick={plan}>
          Pack another
        </Button>
        <Act takes="keep" variant="outlined" onClick={carry}>
          Carry one in
        </Act>
      </Row>
      {drop.error && <Notice title="Not dropped">{drop.error.message}</Notice>}
      <Stack as="ul" aria-label="Repositories" m={0} p={0} plain gap={0.5}>
        {all.map((r) => (
          <Box
            component="li"
            key={r.id}
            sx={{ borderLeft: `3px solid ${r.id === shown ? ink("water") : ink("rule")}`, pl: 1.25, py: 0.5 }}
          >
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
                  sx={{ px: 0, py: 0, color: ink("ink2") }}
                >
                  Drop it
                </Act>
              )}
            </Row>
          </Box>
        ))}
      </Stack>
    </Stack>
  );
}
