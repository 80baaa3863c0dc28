import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import TextField from "@mui/material/TextField";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";

import { api, take } from "../api/client";
import { Title, Trouble } from "../shell/parts";
import { readAgain } from "./ServerPanel";

const BLANK = { name: "", url: "https://", user: "", password: "", rack: "", unit: "" };
type Fields = typeof BLANK;
const LABELS: [keyof Fields, string][] = [["name", "Name"], ["url", "Address of its controller"], ["user", "Controller user"], ["password", "Controller password"], ["rack", "Rack"], ["unit", "Unit"]];

/** Add one server by the address of its controller; it is read at once. */
export function AddServer({ done }: { done: (name: string | null) => void }) {
  const [fields, setFields] = useState(BLANK);
  const queries = useQueryClient();
  const add = useMutation({
    mutationFn: () => take(api.POST("/api/v1/servers", { body: { ...fields, unit: Number(fields.unit) || 0 } })),
    onSuccess: async (server) => {
      await queries.invalidateQueries({ queryKey: ["servers"] });
      await readAgain([server.name]);
      done(server.name);
    },
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    add.mutate();
  };
  return (
    <Box component="form" onSubmit={submit} aria-labelledby="add-title" sx={{ display: "grid", gap: 1.5 }}>
      <Title level={2} id="add-title">Add a server</Title>
      <Box sx={{ fontSize: 13, color: "text.secondary" }}>Its certificate must be from the fleet's authority; its fingerprint is remembered from the first reading on. The password is kept encrypted and never shown again.</Box>
      {LABELS.map(([key, label]) => (
        <TextField key={key} size="small" label={label} value={fields[key]} type={key === "password" ? "password" : "text"} autoComplete="off"
          required={key !== "rack" && key !== "unit"} onChange={(e) => setFields({ ...fields, [key]: e.target.value })} />
      ))}
      {add.error && <Trouble>{add.error.message}</Trouble>}
      <Box sx={{ display: "flex", gap: 1 }}>
        <Button type="submit" variant="contained" loading={add.isPending}>Add and read</Button>
        <Button variant="outlined" onClick={() => done(null)}>Close</Button>
      </Box>
    </Box>
  );
}
