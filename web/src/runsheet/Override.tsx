import Box from "@mui/material/Box";
import TextField from "@mui/material/TextField";
import { useMutation } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";

import { api, take, type RunServer } from "../api/client";
import { Act } from "../ui/Act";
import { Notice } from "../ui/Notice";
import { Stack, Text } from "../ui/layout";

/** What is expected to stop a server of a draft, and the way to answer for it where a person may. */
export function Override({ run, lane }: { run: number; lane: RunServer }) {
  const [reason, setReason] = useState("");
  const path = { params: { path: { id: run, name: lane.server } } };
  const set = useMutation({
    mutationFn: () =>
      take(
        api.POST("/api/v1/runs/{id}/servers/{name}/override", {
          ...path,
          body: { check: lane.stopping, reason: reason.trim() },
        }),
      ),
    onSuccess: () => setReason(""),
  });
  const clear = useMutation({
    mutationFn: () => take(api.DELETE("/api/v1/runs/{id}/servers/{name}/override", path)),
  });
  const trouble = set.error ?? clear.error;
  const submit = (event: FormEvent) => {
    event.preventDefault();
    if (reason.trim()) set.mutate();
  };
  return (
    <Stack gap={1} my={1}>
      {lane.detail && (
        <Notice title="Expected to be stopped">
          {lane.detail}
          {lane.stopping && (
            <Stack as="form" onSubmit={submit} gap={1} mt={1} left>
              <TextField
                size="small"
                fullWidth
                multiline
                label={`Why ${lane.server} goes all the same`}
                value={reason}
                onChange={(e) => setReason(e.target.value)}
              />
              <Act
                takes="run"
                type="submit"
                variant="outlined"
                why={reason.trim() ? null : "Say why first; it stays with the run."}
                loading={set.isPending}
              >
                Override the {lane.stopping} check
              </Act>
            </Stack>
          )}
        </Notice>
      )}
      {lane.overrides.length > 0 && (
        <Text size="small">
          {lane.overrides.map((o) => (
            <Box key={o.check}>
              The {o.check} check is overridden: {o.reason}
            </Box>
          ))}
          <Act takes="run" onClick={() => clear.mutate()} sx={{ ml: -1 }}>
            Take the override back
          </Act>
        </Text>
      )}
      {trouble && <Notice>{trouble.message}</Notice>}
    </Stack>
  );
}
