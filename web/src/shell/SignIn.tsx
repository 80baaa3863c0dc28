import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import TextField from "@mui/material/TextField";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";

import { api, setToken, take } from "../api/client";
import { Glyph } from "../waterline/Glyph";
import { Notice } from "../ui/Notice";
import { Title } from "../ui/text";
import { Row, Text } from "../ui/layout";

/** The door. Nothing of the house is shown before it is passed. */
export function SignIn() {
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const queries = useQueryClient();
  const enter = useMutation({
    mutationFn: () => take(api.POST("/api/v1/sign-in", { body: { name, password } })),
    onSuccess: (me) => {
      setToken(me.csrf);
      queries.setQueryData(["me"], me);
    },
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    enter.mutate();
  };
  return (
    <Box component="main" sx={{ minHeight: "100%", display: "grid", placeItems: "center", p: 3 }}>
      <Box component="form" onSubmit={submit} sx={{ width: "100%", maxWidth: 340, display: "grid", gap: 2 }}>
        <Row gap={1} align="center">
          <Glyph verdict="level" scale={1.6} />
          <Title>Ordnung</Title>
        </Row>
        <Text tone="quiet">
          Firmware of this house: what there is, what there should be, and the way between.
        </Text>
        <TextField
          label="Name"
          value={name}
          onChange={(e) => setName(e.target.value)}
          autoComplete="username"
          autoFocus
          required
          size="small"
        />
        <TextField
          label="Password"
          type="password"
          value={password}
          onChange={(e) => setPassword(e.target.value)}
          autoComplete="current-password"
          required
          size="small"
        />
        {enter.error && <Notice>{enter.error.message}</Notice>}
        <Button type="submit" variant="contained" loading={enter.isPending} sx={{ py: 1 }}>
          Sign in
        </Button>
      </Box>
    </Box>
  );
}
