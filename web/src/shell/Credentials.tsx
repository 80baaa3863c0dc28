import Box from "@mui/material/Box";
import { useMutation } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";

import { api, take } from "../api/client";
import { Act } from "../ui/Act";
import { readAgain } from "./reading";
import { Stack } from "../ui/layout";
import { Field, Unsaid } from "../ui/Field";

/** New credentials for one server or many; they are read again at once. What was typed is never shown again. */
export function Credentials({
  names,
  user: known,
  open = false,
}: {
  names: string[];
  user: string;
  open?: boolean;
}) {
  const [shown, setShown] = useState(open);
  const [user, setUser] = useState(known);
  const [password, setPassword] = useState("");
  const save = useMutation({
    mutationFn: async () => {
      await take(api.POST("/api/v1/credentials", { body: { servers: names, group: "", user, password } }));
      await readAgain(names);
    },
    onSuccess: () => {
      setPassword("");
      setShown(open);
    },
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    save.mutate();
  };
  if (!shown)
    return (
      <Box>
        <Act takes="keep" variant="text" size="inline" onClick={() => setShown(true)}>
          Change {names.length > 1 ? "their" : "its"} controller user and password
        </Act>
      </Box>
    );
  return (
    <Stack as="form" onSubmit={submit} gap={1} mt={1.25}>
      <Field
        field="user"
        refused={save.error}
        label="Controller user"
        value={user}
        autoComplete="off"
        onChange={(e) => setUser(e.target.value)}
        required
      />
      <Field
        field="password"
        refused={save.error}
        label="Controller password"
        type="password"
        autoComplete="off"
        value={password}
        onChange={(e) => setPassword(e.target.value)}
        required
      />
      <Box>
        <Act takes="keep" type="submit" variant="contained" loading={save.isPending}>
          Keep and read again
        </Act>
      </Box>
      <Unsaid error={save.error} fields={["user", "password"]} />
    </Stack>
  );
}
