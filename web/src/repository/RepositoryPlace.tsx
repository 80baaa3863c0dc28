import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import { useMutation, useQuery } from "@tanstack/react-query";
import { Link } from "react-router";

import { api, type Line, type Repository, take } from "../api/client";
import { packing, repositories } from "../api/queries";
import { count, size } from "../shell/format";
import { Act, Empty, Mono, Split, tableSx, Tag, Title, Trouble } from "../shell/parts";
import { useAddress, useSelection } from "../shell/selection";
import { ink } from "../theme/theme";
import { KINDS } from "../waterline/words";
import { LookInside } from "./LookInside";
import { partsOf } from "./scale";

/** What is packed and why, fetched and sealed in place. */
export function RepositoryPlace() {
  const { data } = useQuery(repositories);
  const [address, change] = useAddress();
  if (!data) return null;
  const fresh = address.has("new");
  const shown = fresh ? undefined : (data.find((r) => String(r.id) === address.get("repository")) ?? data[0]);
  const show = (id: number | null) => change({ new: null, repository: id ? String(id) : null });
  const plan = () => change({ new: "1" });
  return (
    <Split label="Repository" panel={<Side all={data} shown={shown} pick={show} plan={plan} />} width={350}>
      {fresh ? <Draft made={(r) => show(r.id)} close={() => show(null)} hasOthers={data.length > 0} /> : shown ? <Shown repository={shown} /> : (
        <Empty title="No repository yet" act={<Button variant="contained" onClick={plan}>See what would be packed</Button>}>
          A repository holds every payload that chosen servers need: targets, must-stops and ways back, checked and sealed. Controllers are fed from it, and it can be carried to a site without network.
        </Empty>
      )}
    </Split>
  );
}

function Draft({ made, close, hasOthers }: { made: (r: Repository) => void; close: () => void; hasOthers: boolean }) {
  const { names } = useSelection();
  const { data, error } = useQuery(packing(names));
  const pack = useMutation({ mutationFn: () => take(api.POST("/api/v1/repositories", { body: { name: "", servers: names } })), onSuccess: made });
  if (error) return <Trouble>{error.message}</Trouble>;
  if (!data) return null;
  const nothing = data.lines.length === 0 ? "These servers need nothing: all are level, held or without a route." : null;
  return (
    <>
      <Box sx={{ display: "flex", gap: 1.5, alignItems: "baseline", mb: 1, flexWrap: "wrap" }}>
        <Title>To be packed</Title>
        <Box sx={{ color: "text.secondary" }}>{names.length ? `for ${count(names.length, "selected server")}` : "for all servers"}: {count(data.servers.length, "server")} need something</Box>
        <Box sx={{ ml: "auto", display: "flex", gap: 1 }}>
          <Act variant="contained" why={nothing} onClick={() => pack.mutate()} loading={pack.isPending}>Pack and seal</Act>
          {hasOthers && <Button variant="outlined" onClick={close}>Not now</Button>}
        </Box>
      </Box>
      {pack.error && <Trouble>{pack.error.message}</Trouble>}
      <Scale lines={data.lines} />
      <PackingList lines={data.lines} />
    </>
  );
}

function Shown({ repository: r }: { repository: Repository }) {
  return (
    <>
      <Box sx={{ display: "flex", gap: 1.5, alignItems: "baseline", mb: 1, flexWrap: "wrap" }}>
        <Title>{r.name}</Title><State repository={r} />
        <Box sx={{ color: "text.secondary" }}>by r{r.revision} for {r.servers.join(", ")}</Box>
      </Box>
      {r.message && <Box sx={{ mb: 1.5 }}><Trouble title="Not sealed">{r.message}</Trouble></Box>}
      <Scale lines={r.lines} />
      <PackingList lines={r.lines} />
    </>
  );
}

const STATE = { packing: "water", sealed: "done", incomplete: "deep" } as const;
const State = ({ repository: r }: { repository: Repository }) => <Tag tone={STATE[r.state]}>{r.state}</Tag>;

/** Sizes by kind drawn to scale. */
function Scale({ lines }: { lines: Line[] }) {
  const parts = partsOf(lines);
  const all = parts.reduce((n, p) => n + p.bytes, 0);
  if (!all) return null;
  return (
    <Box sx={{ mb: 2 }}>
      <Box sx={{ color: "text.secondary", mb: 0.75 }}>{count(lines.length, "payload")}, <Mono>{size(all)}</Mono>, each stored once however many servers need it</Box>
      <Box role="img" aria-label={parts.map((p) => `${KINDS[p.kind] ?? p.kind} ${size(p.bytes)}`).join(", ")} sx={{ display: "flex", gap: "2px", height: 46 }}>
        {parts.map((p) => (
          <Box key={p.kind} title={`${KINDS[p.kind] ?? p.kind} ${size(p.bytes)}`} sx={{ flex: `${p.bytes} 0 4px`, minWidth: 4, overflow: "hidden", bgcolor: p.kind === "way back" ? ink("rule") : ink("water2"), border: `1px solid ${p.kind === "way back" ? ink("ahead") : ink("water")}`, px: p.bytes / all > 0.07 ? 0.75 : 0, py: 0.5, whiteSpace: "nowrap", fontSize: 12.5 }}>
            {p.bytes / all > 0.07 && <><strong>{p.kind === "controller" ? "Controller" : p.kind === "way back" ? "Ways back" : (KINDS[p.kind] ?? p.kind)}</strong><br /><Mono>{size(p.bytes)}</Mono></>}
          </Box>
        ))}
      </Box>
    </Box>
  );
}

const REASON = { target: "water", "must stop": "rule", "way back": "pending" } as const;

function PackingList({ lines }: { lines: Line[] }) {
  return (
    <Box component="table" aria-label="Packing list" sx={{ ...tableSx, border: `1px solid ${ink("ink")}` }}>
      <thead><tr><th scope="col">Product</th><th scope="col">Version</th><th scope="col">Why it is packed</th><th scope="col" className="n">Size</th><th scope="col" className="n">Servers</th><th scope="col">State</th></tr></thead>
      <tbody>
        {lines.map((l) => (
          <tr key={`${l.product} ${l.version}`}>
            <td><Link to={`/drift?product=${l.product}`} style={{ color: "inherit", fontWeight: 650 }}>{l.name}</Link> {l.unsigned && <Tag tone="pending">unsigned catalog</Tag>}</td>
            <td><Mono>{l.version}</Mono></td>
            <td><Box sx={{ display: "flex", gap: 0.5 }}>{l.reasons.map((r) => <Tag key={r} tone={REASON[r as keyof typeof REASON] ?? "rule"}>{r}</Tag>)}</Box></td>
            <td className="n">{size(l.size)}</td>
            <td className="n" title={l.servers.join(", ")}>{l.servers.length}</td>
            <td><LineState line={l} /></td>
          </tr>
        ))}
      </tbody>
    </Box>
  );
}

function LineState({ line: l }: { line: Line }) {
  if (l.state === "refused") return <Box sx={{ color: ink("deep"), maxWidth: 320, overflowWrap: "anywhere" }}>refused: {l.message}</Box>;
  if (l.state !== "fetching") return <>{l.state === "waiting" ? "–" : "checked"}</>;
  const part = Math.round((100 * l.bytes) / Math.max(1, l.size));
  return <Mono>{part} %</Mono>;
}

interface SideProps { all: Repository[]; shown: Repository | undefined; pick: (id: number) => void; plan: () => void }

function Side({ all, shown, pick, plan }: SideProps) {
  return (
    <Box sx={{ display: "grid", gap: 2.5 }}>
      {shown && <Seal repository={shown} />}
      <Box component="section" sx={{ display: "grid", gap: 0.75 }}>
        <Title level={2}>Repositories</Title>
        {all.map((r) => (
          <Box key={r.id} component="button" aria-current={r.id === shown?.id} onClick={() => pick(r.id)} sx={{ all: "unset", cursor: "pointer", borderLeft: `3px solid ${r.id === shown?.id ? ink("water") : ink("rule")}`, pl: 1.25, py: 0.5, "&:focus-visible": { outline: `2px solid ${ink("water")}` } }}>
            <strong>{r.name}</strong> <State repository={r} />
            <Box sx={{ color: "text.secondary", fontSize: 12.5 }}>{count(r.lines.length, "payload")}, {size(r.lines.reduce((n, l) => n + l.size, 0))}</Box>
          </Box>
        ))}
        <Box><Button variant="outlined" onClick={plan}>Pack another</Button></Box>
      </Box>
      <LookInside />
    </Box>
  );
}

function Seal({ repository: r }: { repository: Repository }) {
  const check = useMutation({ mutationFn: () => take(api.POST("/api/v1/repositories/{id}/check", { params: { path: { id: r.id } } })) });
  if (r.state !== "sealed" || !r.expires) {
    return <Box component="section"><Title level={2}>Seal</Title><Box sx={{ color: "text.secondary" }}>{r.state === "packing" ? "Sealed once every payload is fetched and checked." : "Not sealed: a payload was refused."}</Box></Box>;
  }
  return (
    <Box component="section" sx={{ display: "grid", gap: 1 }}>
      <Title level={2}>Seal</Title>
      <Box sx={{ color: "text.secondary" }}>Good until {new Date(r.expires).toLocaleDateString("en-GB", { day: "numeric", month: "long", year: "numeric" })}. A copy that was altered, cut short or has expired is refused where it arrives.</Box>
      <Box sx={{ fontSize: 12, overflowWrap: "anywhere" }}>Folder <Mono>{r.folder}</Mono></Box>
      <Box sx={{ fontSize: 12, overflowWrap: "anywhere" }}>Root key, to compare at the far end <Mono>{r.root_key}</Mono></Box>
      <Box><Button variant="outlined" onClick={() => check.mutate()} loading={check.isPending}>Check it end to end</Button></Box>
      {check.data && <Box role="status" sx={{ color: ink("done") }}>Whole: {count(check.data.files, "file")}, {size(check.data.bytes)}, every signature and checksum right.{check.data.unsealed.length > 0 && ` Not part of the seal: ${check.data.unsealed.join(", ")}.`}</Box>}
      {check.error && <Trouble title="Refused">{check.error.message}</Trouble>}
    </Box>
  );
}
