import TextField from "@mui/material/TextField";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";

import { api, take } from "../api/client";
import { Act } from "../ui/Act";
import { Block, Row } from "../ui/layout";

/** Say that something was done at a server or for it, with a note where there is something to say. */
export function Tick({ run, server, tickKey }: { run: number; server: string; tickKey: string }) {
  const [note, write] = useState("");
  const queries = useQueryClient();
  const tick = useMutation({
    mutationFn: () =>
      take(
        api.POST("/api/v1/runs/{id}/servers/{name}/tick", {
          params: { path: { id: run, name: server } },
          body: { key: tickKey, note },
        }),
      ),
    onSuccess: async (fresh) => {
      queries.setQueryData(["run", run], fresh);
      await queries.invalidateQueries({ queryKey: ["calls"] });
    },
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    tick.mutate();
  };
  return (
    <>
      <Row as="form" onSubmit={submit} gap={1} mt={1} align="center">
        <TextField
          size="small"
          fullWidth
          placeholder="A note, if there is something to say"
          value={note}
          onChange={(e) => write(e.target.value)}
          slotProps={{ htmlInput: { "aria-label": `A note on ${server}`, maxLength: 500 } }}
        />
        <Act
          takes="run"
          type="submit"
          variant="contained"
          loading={tick.isPending}
          aria-label={`Done: ${server}`}
        >
          Done
        </Act>
      </Row>
      {tick.error && (
        <Block role="alert" mt={0.75}>
          {tick.error.message}
        </Block>
      )}
    </>
  );
}
