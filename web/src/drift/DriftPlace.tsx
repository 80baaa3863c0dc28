import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import { useQuery } from "@tanstack/react-query";
import { Fragment } from "react";
import { Link } from "react-router";

import type { Cell, Server } from "../api/client";
import { servers as serversQuery } from "../api/queries";
import { Acts } from "../floor/Acts";
import { count, foldNames } from "../shell/format";
import { Empty, Mono, Split, tableSx, Title, Trouble } from "../shell/parts";
import { useParam, useSelection } from "../shell/selection";
import { ink } from "../theme/theme";
import { Glyph } from "../waterline/Glyph";
import { KINDS, tellCell } from "../waterline/words";
import { type Fold, fold } from "./fold";
import { ReleaseLine } from "./ReleaseLine";

/** Drift is found as the odd one out: equal servers folded, the odd ones first, and below the line of a product. */
export function DriftPlace() {
  const { data, error } = useQuery(serversQuery);
  const { names, select } = useSelection();
  const [product, setProduct] = useParam("product");
  const [only, setOnly] = useParam("only");
  if (error) return <Box sx={{ p: 3 }}><Trouble>{error.message}</Trouble></Box>;
  if (!data) return null;
  const scope = names.length ? data.filter((s) => names.includes(s.name)) : data;
  const shown = only ? scope.filter((s) => s.off > 0) : scope;
  const lead = product ?? worstProduct(shown);
  if (!data.some((s) => s.read_at)) {
    return <Empty title="Nothing is read yet" act={<Button component={Link} to="/floor" variant="contained">Go to the Floor</Button>}>Drift shows how far each server is from the baseline. Read the servers first.</Empty>;
  }
  return (
    <Split label="Drift">
      <Head scope={scope} chosen={names} clear={() => select([])} only={Boolean(only)} setOnly={(on) => setOnly(on ? "drift" : null)} />
      <Folds servers={shown} product={lead} choose={setProduct} selected={names} select={select} />
      {lead && (
        <Box sx={{ position: "sticky", bottom: -12, mt: 2, zIndex: 2, boxShadow: `0 -8px 0 ${ink("paper")}` }}>
          <ReleaseLine key={lead} product={lead} show={select} />
        </Box>
      )}
    </Split>
  );
}

/** The product to show when none is chosen: the one with the most exposed components. */
function worstProduct(servers: Server[]): string | null {
  const cells = servers.flatMap((s) => s.cells).filter((c) => c.product && c.verdict !== "level");
  cells.sort((a, b) => Number(b.verdict === "exposed") - Number(a.verdict === "exposed") || b.behind - a.behind);
  return cells[0]?.product ?? servers[0]?.cells[0]?.product ?? null;
}

interface HeadProps { scope: Server[]; chosen: string[]; clear: () => void; only: boolean; setOnly: (on: boolean) => void }

function Head({ scope, chosen, clear, only, setOnly }: HeadProps) {
  const off = scope.reduce((n, s) => n + s.off, 0);
  const all = scope.reduce((n, s) => n + s.components, 0);
  const exposed = scope.reduce((n, s) => n + s.exposed, 0);
  return (
    <Box sx={{ display: "flex", flexWrap: "wrap", gap: 1.5, alignItems: "baseline", mb: 1.25 }}>
      <Title>{off} of {all} components are off the baseline</Title>
      <Box sx={{ color: "text.secondary" }}>{exposed} miss a security fix, on {count(scope.filter((s) => s.exposed).length, "server")}</Box>
      <Box sx={{ ml: "auto", display: "flex", gap: 1, alignItems: "center" }}>
        {chosen.length > 0 && <Button variant="outlined" onClick={clear}>{count(chosen.length, "server")} selected, show all</Button>}
        <Button variant="outlined" aria-pressed={only} onClick={() => setOnly(!only)}>{only ? "Show level ones too" : "Only what drifts"}</Button>
        <Acts servers={scope} />
      </Box>
    </Box>
  );
}

interface FoldsProps { servers: Server[]; product: string | null; choose: (product: string) => void; selected: string[]; select: (names: string[]) => void }

function Folds({ servers, product, choose, selected, select }: FoldsProps) {
  const kinds = [...new Set(servers.flatMap((s) => s.cells.map((c) => c.kind)))];
  return (
    <Box component="table" aria-label="Servers folded by state" sx={{ ...tableSx, border: `1px solid ${ink("ink")}`, "& td": { ...tableSx["& td"], py: 0.3 } }}>
      <thead>
        <tr>
          <th scope="col">Server</th>
          {kinds.map((kind) => <th scope="col" key={kind}>{servers.flatMap((s) => s.cells).find((c) => c.kind === kind)?.letter} {kind === "controller" ? "Controller" : KINDS[kind]}</th>)}
          <th scope="col">Resets</th>
        </tr>
      </thead>
      <tbody>
        {fold(servers).map(({ model, count: n, folds }) => (
          <Fragment key={model}>
            <Box component="tr" sx={{ bgcolor: ink("paper") }}><th scope="rowgroup" colSpan={kinds.length + 2} style={{ borderBottom: 0 }}><Box component="span" sx={{ color: "text.primary" }}>{model}</Box> {count(n, "server")} in {count(folds.length, "state")}</th></Box>
            {folds.map((f) => <FoldRow key={f.signature} fold={f} kinds={kinds} product={product} choose={choose} chosen={f.names.every((x) => selected.includes(x))} select={select} />)}
          </Fragment>
        ))}
      </tbody>
    </Box>
  );
}

interface RowProps { fold: Fold; kinds: string[]; product: string | null; choose: (product: string) => void; chosen: boolean; select: (names: string[]) => void }

function FoldRow({ fold: f, kinds, product, choose, chosen, select }: RowProps) {
  return (
    <Box component="tr" sx={{ bgcolor: chosen ? ink("water2") : undefined }}>
      <td>
        <Box component="button" title={f.names.join(", ")} onClick={() => select(f.names)} sx={{ all: "unset", cursor: "pointer", fontWeight: 650, "&:hover": { textDecoration: "underline" }, "&:focus-visible": { outline: `2px solid ${ink("water")}` } }}>
          {foldNames(f.names)}
        </Box>{" "}
        {f.names.length > 1 && <Mono dim>{f.names.length}</Mono>}
      </td>
      {kinds.map((kind) => <td key={kind}><VersionCell cell={f.like.cells.find((c) => c.kind === kind)} product={product} choose={choose} /></td>)}
      <td style={{ whiteSpace: "nowrap" }}>{f.like.resets || "–"}</td>
    </Box>
  );
}

/** A glyph with its version; it opens the release line of its product. */
function VersionCell({ cell, product, choose }: { cell: Cell | undefined; product: string | null; choose: (product: string) => void }) {
  if (!cell || !cell.count) return <Box sx={{ color: "text.secondary" }}>–</Box>;
  const inner = (
    <Box sx={{ display: "flex", gap: 1, alignItems: "flex-start" }}>
      <Box sx={{ display: "flex" }}><Glyph verdict={cell.verdict} behind={cell.behind} /></Box>
      <Box sx={{ minWidth: 0 }}>
        <Mono>{cell.versions}</Mono>
        {!cell.product && <Box component="span" sx={{ fontSize: 12, color: "text.secondary" }}> in no catalog</Box>}
        {cell.waiting && <Box sx={{ fontSize: 12, color: ink("pending") }}>{cell.waiting} waits</Box>}
        {cell.via.length > 0 && <Box sx={{ fontSize: 12, color: "text.secondary" }}>by way of {cell.via.join(", ")}</Box>}
      </Box>
    </Box>
  );
  if (!cell.product) return <Box title={tellCell(cell)}>{inner}</Box>;
  const mine = cell.product;
  return (
    <Box component="button" aria-label={tellCell(cell)} aria-pressed={product === mine} onClick={() => choose(mine)}
      sx={{ all: "unset", display: "block", cursor: "pointer", borderRadius: 0.5, px: 0.5, mx: -0.5, boxShadow: product === mine ? `inset 0 -2px 0 ${ink("water")}` : "none", "&:hover": { bgcolor: ink("paper") }, "&:focus-visible": { outline: `2px solid ${ink("water")}` } }}>
      {inner}
    </Box>
  );
}
