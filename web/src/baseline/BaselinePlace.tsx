import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type ChangeEvent, useRef } from "react";
import { Link } from "react-router";

import { type Baseline, sendFile } from "../api/client";
import { baseline as baselineQuery } from "../api/queries";
import { count, month } from "../shell/format";
import { Empty, Mono, Split, tableSx, Tag, Title, Trouble } from "../shell/parts";
import { ink } from "../theme/theme";
import { Glyph } from "../waterline/Glyph";

/** What every product should run, and which rule made it so. */
export function BaselinePlace() {
  const { data, error } = useQuery(baselineQuery);
  if (error) return <Box sx={{ p: 3 }}><Trouble>{error.message}</Trouble></Box>;
  if (!data) return null;
  return (
    <Split label="Baseline" panel={<Sources data={data} />} width={350}>
      {data.lines.length === 0 ? (
        <Empty title="No baseline yet">The baseline says which release every product should run. It follows from the catalogs on the right and the house rules, for the servers that were read. {data.issues.length === 0 ? "Bring in a catalog first." : "Read the servers on the Floor first."}</Empty>
      ) : <List data={data} />}
    </Split>
  );
}

function List({ data }: { data: Baseline }) {
  const held = data.lines.filter((l) => l.held).length;
  return (
    <>
      <Box sx={{ display: "flex", gap: 1.5, alignItems: "baseline", mb: 1.25, flexWrap: "wrap" }}>
        <Title>What should be there</Title>
        <Box sx={{ color: "text.secondary" }}>{count(data.lines.length, "line")} for what is fitted in this house, {held} held. First rule that matches decides.</Box>
      </Box>
      <Box component="table" aria-label="Resulting baseline" sx={{ ...tableSx, border: `1px solid ${ink("ink")}` }}>
        <thead><tr><th scope="col">Product</th><th scope="col">Baseline</th><th scope="col">Released</th><th scope="col">From issue</th><th scope="col">Rule and reason</th><th scope="col" className="n">Fitted</th></tr></thead>
        <tbody>
          {data.lines.map((l) => (
            <tr key={`${l.product} ${l.target} ${l.issue}`}>
              <td>
                <Box sx={{ display: "flex", gap: 1.25 }}>
                  <Box sx={{ pt: 0.4 }}><Glyph verdict={l.held ? "held" : "level"} /></Box>
                  <Box component={Link} to={`/drift?product=${l.product}`} sx={{ color: "text.primary", fontWeight: 600 }}>{l.name}</Box>
                </Box>
              </td>
              <td><Mono>{l.held ? "held" : l.target ?? "none"}</Mono></td>
              <td style={{ whiteSpace: "nowrap" }}>{l.released ? month(l.released) : "–"} {l.importance === "security" && <Tag tone="deep">security</Tag>}</td>
              <td>{l.issue}</td>
              <td>{l.rule === null ? l.why : `${l.rule + 1}: ${l.why}`}</td>
              <td className="n">{l.fitted}</td>
            </tr>
          ))}
        </tbody>
      </Box>
      {data.unlisted.length > 0 && (
        <Box sx={{ mt: 2, fontSize: 13.5 }}>
          <Title level={3}>In no catalog</Title>
          <Box component="ul" sx={{ m: 0, pl: 2.25, color: "text.secondary" }}>{data.unlisted.map((u) => <li key={u}>{u}</li>)}</Box>
        </Box>
      )}
    </>
  );
}

function Sources({ data }: { data: Baseline }) {
  return (
    <Box sx={{ display: "grid", gap: 2 }}>
      <Box component="section">
        <Title level={2}>House rules, in order</Title>
        {data.rules.map((rule, at) => (
          <Box key={rule.what} sx={{ display: "grid", gridTemplateColumns: "20px 52px 1fr", py: 1, borderTop: `1px solid ${ink("rule")}`, mt: at ? 0 : 0.75, fontSize: 13.5 }}>
            <Mono dim>{at + 1}</Mono><strong style={{ textTransform: "capitalize" }}>{rule.do}</strong>
            <Box><strong>{rule.what}</strong><Box sx={{ color: "text.secondary" }}>{rule.reason}</Box></Box>
          </Box>
        ))}
        <Box sx={{ fontSize: 12.5, color: "text.secondary", borderTop: `1px solid ${ink("rule")}`, pt: 0.75 }}>These two are built in.</Box>
      </Box>
      <Catalogs data={data} />
    </Box>
  );
}

function Catalogs({ data }: { data: Baseline }) {
  const queries = useQueryClient();
  const input = useRef<HTMLInputElement>(null);
  const bring = useMutation({ mutationFn: (file: File) => sendFile("/api/v1/catalogs", file), onSuccess: () => queries.invalidateQueries() });
  const chosen = (event: ChangeEvent<HTMLInputElement>) => {
    const file = event.target.files?.[0];
    if (file) bring.mutate(file);
    event.target.value = "";
  };
  return (
    <Box component="section" sx={{ display: "grid", gap: 1 }}>
      <Title level={2}>Catalogs at hand</Title>
      {data.issues.map((issue) => (
        <Box key={`${issue.catalog} ${issue.issue}`} sx={{ borderTop: `1px solid ${ink("rule")}`, pt: 0.75, fontSize: 13.5 }}>
          <strong>{issue.maker} {issue.issue}</strong>
          <Box sx={{ color: "text.secondary" }}>
            {count(issue.products, "product")}, {count(issue.releases, "release")}. {issue.models.length ? `Covers ${issue.models.join(", ")}.` : "Covers every model."}
          </Box>
        </Box>
      ))}
      {bring.error && <Trouble title="Not brought in; what is here stays">{bring.error.message}</Trouble>}
      {bring.isSuccess && <Box role="status" sx={{ color: ink("done") }}>Brought in.</Box>}
      <Box>
        <input ref={input} type="file" accept=".json,application/json" onChange={chosen} hidden aria-label="Catalog file" />
        <Button variant="outlined" onClick={() => input.current?.click()} loading={bring.isPending}>Bring in a catalog</Button>
      </Box>
    </Box>
  );
}
