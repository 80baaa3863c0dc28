import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";

import { api, type Me, take } from "../api/client";
import { sessions as sessionsQuery } from "./queries";
import { ago } from "../shell/format";
import { Act } from "../ui/Act";
import { Notice } from "../ui/Notice";
import { Tag } from "../ui/Tag";
import { Title } from "../ui/text";
import { useSiteNow } from "../shell/time";
import { Block, Row, Stack, Text } from "../ui/layout";
import { Field, Unsaid } from "../ui/Field";

/** One's own: what one may do, the password, and where one is signed in. */
export function You({ me }: { me: Me }) {
  return (
    <Box sx={{ display: "grid", gap: 2, alignContent: "start", gridTemplateColumns: "minmax(0,1fr)" }}>
      <Box>
        <Title level={2}>{me.name}</Title>
        <Text size="body">You may {me.rights.length ? me.rights.join(", ") : "do nothing here yet"}.</Text>
      </Box>
      <Password />
      <Sessions />
    </Box>
  );
}

function Password() {
  const [old_password, setOld] = useState("");
  const [new_password, setNew] = useState("");
  const change = useMutation({
    mutationFn: () => take(api.POST("/api/v1/me/password", { body: { old_password, new_password } })),
    onSuccess: () => {
      setOld("");
      setNew("");
    },
  });
  const missing = old_password && new_password ? null : "Give your present and your new password.";
  const submit = (event: FormEvent) => {
    event.preventDefault();
    if (!missing) change.mutate();
  };
  return (
    <Stack as="form" onSubmit={submit} aria-label="Change your password" gap={1} left>
      <Title level={3}>Change your password</Title>
      <Field
        field="old_password"
        refused={change.error}
        fullWidth
        type="password"
        label="Present password"
        value={old_password}
        onChange={(e) => setOld(e.target.value)}
        autoComplete="current-password"
      />
      <Field
        field="new_password"
        refused={change.error}
        fullWidth
        type="password"
        label="New password, 12 characters or more"
        value={new_password}
        onChange={(e) => setNew(e.target.value)}
        autoComplete="new-password"
      />
      <Act type="submit" variant="outlined" why={missing} loading={change.isPending}>
        Change it
      </Act>
      {change.isSuccess && (
        <Text role="status" size="small" tone="done">
          Changed. Your other sessions have ended.
        </Text>
      )}
      <Unsaid error={change.error} fields={["old_password", "new_password"]} />
    </Stack>
  );
}

function Sessions() {
  const { data = [] } = useQuery(sessionsQuery);
  const queries = useQueryClient();
  const now = useSiteNow();
  const end = useMutation({
    mutationFn: (session: string) =>
      take(api.DELETE("/api/v1/me/sessions/{session}", { params: { path: { session } } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["people"] }),
  });
  return (
    <Box>
      <Title level={3}>Where you are signed in</Title>
      <Block as="ul" aria-label="Your sessions" m={0} p={0} plain>
        {data.map((s) => (
          <Row as="li" key={s.id} gap={1} align="center" py={0.75} under size="small">
            <Block flex={1} minWidth={0}>
              {s.where || "an address unknown"} {s.own && <Tag tone="water">this one</Tag>}
              <Text tone="quiet" cut title={s.agent}>
                {s.seen ? `last used ${ago(s.seen, now)}` : ""}
                {s.agent && `, ${s.agent}`}
              </Text>
            </Block>
            {!s.own && (
              <Button
                variant="outlined"
                aria-label={`End the session from ${s.where || "an address unknown"}`}
                onClick={() => end.mutate(s.id)}
              >
                End
              </Button>
            )}
          </Row>
        ))}
      </Block>
      {end.error && <Notice>{end.error.message}</Notice>}
    </Box>
  );
}
