import { styled } from "@mui/material/styles";
import Button from "@mui/material/Button";
import Checkbox from "@mui/material/Checkbox";
import TextField from "@mui/material/TextField";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";

import { api, type Me, type Person, type Right, take } from "../api/client";
import { people as peopleQuery } from "./queries";
import { ago, count } from "../shell/format";
import { Act } from "../ui/Act";
import { Notice } from "../ui/Notice";
import { Table } from "../ui/Table";
import { Tag } from "../ui/Tag";
import { Spoken, Title } from "../ui/text";
import { useBarred } from "../api/rights";
import { ALOUD } from "../api/refused";
import { useSiteNow } from "../shell/time";
import { ink } from "../theme/theme";
import { Facts } from "../ui/Facts";
import { Row, Stack, Text } from "../ui/layout";
import { Field, Unsaid } from "../ui/Field";

interface Change {
  active?: boolean;
  rights?: Right[];
  password?: string;
}

function useChange(name: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: Change) =>
      take(api.PATCH("/api/v1/people/{name}", { params: { path: { name } }, body })),
    onSuccess: (rows) => {
      queries.setQueryData(peopleQuery.queryKey, rows);
      void queries.invalidateQueries({ queryKey: ["me"] });
    },
  });
}

const Rights = styled(Table)({
  "& th.right, & td.right": { textAlign: "center", width: 76 },
  "& tbody th": { borderBottom: `1px solid ${ink("rule")}`, color: ink("ink") },
  "& tbody td": { verticalAlign: "middle" },
});

/** Everyone of the site: a row a person, a column a right. */
export function Everyone({ me }: { me: Me }) {
  const { data = [] } = useQuery(peopleQuery);
  const [open, setOpen] = useState<string | null>(null);
  return (
    <Stack gap={2} left>
      <Rights aria-label="People and their rights" framed>
        <thead>
          <tr>
            <th scope="col">Person</th>
            {me.table.map((row) => (
              <th scope="col" className="right" key={row.right}>
                {row.right}
              </th>
            ))}
            <th scope="col">Signed in</th>
            <th scope="col">
              <Spoken>Change</Spoken>
            </th>
          </tr>
        </thead>
        <tbody>
          {data.map((p) => (
            <PersonRow
              key={p.name}
              person={p}
              me={me}
              open={open === p.name}
              toggle={() => setOpen(open === p.name ? null : p.name)}
            />
          ))}
        </tbody>
      </Rights>
      <Text size="small">
        <Facts rows={me.table.map((row) => [row.right, row.words])} />
      </Text>
      <NewPerson rights={me.table.map((row) => row.right)} />
    </Stack>
  );
}

function PersonRow({
  person,
  me,
  open,
  toggle,
}: {
  person: Person;
  me: Me;
  open: boolean;
  toggle: () => void;
}) {
  const change = useChange(person.name);
  const now = useSiteNow();
  const barred = useBarred("keep");
  const flip = (right: Right) =>
    change.mutate({
      rights: person.rights.includes(right)
        ? person.rights.filter((r) => r !== right)
        : [...person.rights, right],
    });
  return (
    <>
      <tr>
        <th scope="row">
          {person.name} {person.name === me.name && <Tag>you</Tag>}{" "}
          {!person.active && <Tag tone="deep">disabled</Tag>}
        </th>
        {me.table.map(({ right }) => (
          <td key={right} className="right">
            {barred ? (
              person.rights.includes(right) ? (
                <span role="img" aria-label={`${person.name} may ${right}`}>
                  •
                </span>
              ) : null
            ) : (
              <Checkbox
                size="small"
                checked={person.rights.includes(right)}
                onChange={() => flip(right)}
                disabled={change.isPending}
                sx={{ p: 0.25 }}
                slotProps={{ input: { "aria-label": `${person.name} may ${right}` } }}
              />
            )}
          </td>
        ))}
        <td style={{ whiteSpace: "nowrap" }}>
          {person.sessions
            ? count(person.sessions, "session")
            : person.last_seen
              ? ago(person.last_seen, now)
              : "never"}
        </td>
        <td>
          <Act
            takes="keep"
            variant="text"
            aria-expanded={open}
            aria-label={`${open ? "Close" : "More"}: ${person.name}`}
            onClick={toggle}
            size="row"
            color="secondary"
          >
            {open ? "Close" : "More"}
          </Act>
        </td>
      </tr>
      {(open || change.error) && (
        <tr>
          <td colSpan={me.table.length + 3}>
            {open && <More person={person} change={change} />}
            {change.error && <Notice>{change.error.message}</Notice>}
          </td>
        </tr>
      )}
    </>
  );
}

function More({ person, change }: { person: Person; change: ReturnType<typeof useChange> }) {
  const queries = useQueryClient();
  const [password, setPassword] = useState("");
  const end = useMutation({
    meta: ALOUD,
    mutationFn: () =>
      take(api.DELETE("/api/v1/people/{name}/sessions", { params: { path: { name: person.name } } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["people"] }),
  });
  const reset = (event: FormEvent) => {
    event.preventDefault();
    if (password) change.mutate({ password }, { onSuccess: () => setPassword("") });
  };
  return (
    <Row gap={1} wrap align="center" py={0.75}>
      <Row as="form" onSubmit={reset} gap={1} align="center">
        <TextField
          size="small"
          type="password"
          label={`New password of ${person.name}`}
          autoComplete="new-password"
          value={password}
          onChange={(e) => setPassword(e.target.value)}
          sx={{ width: 240 }}
        />
        <Act type="submit" variant="outlined" why={password ? null : "Type a new password first."}>
          Reset it
        </Act>
      </Row>
      <Act
        variant="outlined"
        why={person.sessions ? null : `${person.name} is not signed in.`}
        loading={end.isPending}
        onClick={() => end.mutate()}
      >
        End their sessions
      </Act>
      <Button
        variant="outlined"
        color={person.active ? "error" : "primary"}
        onClick={() => change.mutate({ active: !person.active })}
      >
        {person.active ? `Disable ${person.name}` : `Enable ${person.name}`}
      </Button>
    </Row>
  );
}

function NewPerson({ rights }: { rights: Right[] }) {
  const queries = useQueryClient();
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const [given, give] = useState<Right[]>(["look"]);
  const add = useMutation({
    mutationFn: () =>
      take(api.POST("/api/v1/people", { body: { name: name.trim(), password, rights: given } })),
    onSuccess: (rows) => {
      queries.setQueryData(peopleQuery.queryKey, rows);
      void queries.invalidateQueries({ queryKey: ["me"] });
      setName("");
      setPassword("");
      give(["look"]);
    },
  });
  const missing = !name.trim()
    ? "Give a name first."
    : !password
      ? "Give a first password; they change it themselves."
      : given.length
        ? null
        : "Give at least one right.";
  const submit = (event: FormEvent) => {
    event.preventDefault();
    if (!missing) add.mutate();
  };
  const flip = (right: Right) =>
    give(given.includes(right) ? given.filter((r) => r !== right) : [...given, right]);
  return (
    <Stack as="form" onSubmit={submit} aria-label="Add a person" gap={1} left>
      <Title level={2}>Add a person</Title>
      <Row gap={1} wrap align="center">
        <Field
          field="name"
          refused={add.error}
          label="Name"
          value={name}
          onChange={(e) => setName(e.target.value)}
          autoComplete="off"
        />
        <Field
          field="new_password"
          refused={add.error}
          type="password"
          label="First password"
          value={password}
          onChange={(e) => setPassword(e.target.value)}
          autoComplete="new-password"
          helperText="12 characters or more"
          sx={{ "& .MuiFormHelperText-root": { position: { md: "absolute" }, top: "100%" } }}
        />
        {rights.map((right) => (
          <Text as="label" key={right} size="body" noWrap>
            <Checkbox
              size="small"
              checked={given.includes(right)}
              onChange={() => flip(right)}
              sx={{ p: 0.25 }}
            />
            {right}
          </Text>
        ))}
      </Row>
      <Act
        takes="keep"
        type="submit"
        variant="contained"
        why={missing}
        loading={add.isPending}
        sx={{ mt: 1.5 }}
      >
        Add {name.trim() || "a person"}
      </Act>
      <Unsaid error={add.error} fields={["name", "new_password"]} />
    </Stack>
  );
}
