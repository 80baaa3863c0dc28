import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";

import type { Server } from "../api/client";
import { servers as serversQuery } from "../api/queries";
import { ago, count } from "../shell/format";
import { Empty, Split, tableSx, Title, Trouble } from "../shell/parts";
import { useSelection } from "../shell/selection";
import { useSiteNow } from "../shell/time";
import { ink } from "../theme/theme";
import { Legend } from "../waterline/GlyphRow";
import { tellServer } from "../waterline/words";
import { AddServer } from "./AddServer";
import { racks, walk } from "./layout";
import { Rack } from "./Rack";
import { Acts, readAgain, ServerPanel } from "./ServerPanel";

/** The house as one walks up to it: racks to scale, each server with its row of marks. */
export function FloorPlace() {
  const { data, error } = useQuery(serversQuery);
  const { names, select, toggle } = useSelection();
  const [adding, setAdding] = useState(false);
  if (error) return <Box sx={{ p: 3 }}><Trouble>{error.message}</Trouble></Box>;
  if (!data) return null;
  const panel = adding ? (
    <AddServer done={(name) => { setAdding(false); if (name) select([name]); }} />
  ) : names.length === 1 ? <ServerPanel name={names[0] ?? ""} /> : names.length > 1 ? <Several servers={data.filter((s) => names.includes(s.name))} /> : <Summary servers={data} />;
  return (
    <Split label="Floor" panel={panel}>
      {data.length === 0 && !adding ? (
        <Empty title="No server yet" act={<Button variant="contained" onClick={() => setAdding(true)}>Add a server</Button>}>
          The Floor shows the racks of the house with every server's firmware at a glance. Add the first server by the address of its management controller.
        </Empty>
      ) : (
        <>
          <Head servers={data} add={() => setAdding(true)} />
          <Box sx={{ display: "flex", gap: 2.5, alignItems: "flex-start", flexWrap: { xs: "wrap", lg: "nowrap" } }}>
            {racks(data).map((rack) => <Rack key={rack} rack={rack} servers={data} selected={names} select={select} />)}
            <List servers={data} selected={names} select={select} toggle={toggle} />
          </Box>
        </>
      )}
    </Split>
  );
}

function Head({ servers, add }: { servers: Server[]; add: () => void }) {
  const read = useMutation({ mutationFn: () => readAgain([]) });
  const rooms = [...new Set(servers.map((s) => s.room).filter(Boolean))];
  return (
    <Box sx={{ mb: 1 }}>
      <Box sx={{ display: "flex", alignItems: "center", gap: 1, mb: 0.5 }}>
        <Title>{rooms.length === 1 ? `${rooms[0]} room` : "Floor"}</Title>
        <Button variant="contained" sx={{ ml: "auto" }} onClick={() => read.mutate()} loading={read.isPending}>Read all servers</Button>
        <Button variant="outlined" onClick={add}>Add a server</Button>
      </Box>
      <Legend />
      {read.error && <Trouble>{read.error.message}</Trouble>}
    </Box>
  );
}

interface ListProps { servers: Server[]; selected: string[]; select: (names: string[]) => void; toggle: (name: string) => void }

/** The same servers as a table: what is off in words, what it costs, how old the reading is. */
function List({ servers, selected, select, toggle }: ListProps) {
  const now = useSiteNow(5000);
  const ordered = racks(servers).flatMap((rack) => walk(servers, rack));
  return (
    <Box component="table" aria-label="Servers" sx={{ ...tableSx, mt: 2.75, "& td": { ...tableSx["& td"], py: 0.375, fontSize: 13 } }}>
      <thead><tr><th scope="col"><span aria-hidden>✓</span></th><th scope="col">Server</th><th scope="col">Off the baseline</th><th scope="col">Resets to pay</th><th scope="col">Read</th></tr></thead>
      <tbody>
        {ordered.map((s) => (
          <Box component="tr" key={s.name} sx={{ bgcolor: selected.includes(s.name) ? ink("water2") : undefined }}>
            <td><input type="checkbox" aria-label={`Select ${s.name}`} checked={selected.includes(s.name)} onChange={() => toggle(s.name)} /></td>
            <td>
              <Box component="button" onClick={() => select([s.name])} sx={{ all: "unset", cursor: "pointer", fontWeight: 600, whiteSpace: "nowrap", "&:hover": { textDecoration: "underline" }, "&:focus-visible": { outline: `2px solid ${ink("water")}` } }}>{s.name}</Box>
            </td>
            <td>
              {s.failure ? <Box component="span" sx={{ color: ink("deep") }}>{s.failure.cause}: {s.failure.detail}</Box> : !s.read_at ? "not read yet" : s.off ? <>{tellServer(s.cells)}{s.exposed > 0 && <Box component="span" sx={{ color: ink("deep"), whiteSpace: "nowrap" }}>{", "}{s.exposed} exposed</Box>}</> : "level"}
            </td>
            <td style={{ whiteSpace: "nowrap" }}>{s.resets || "–"}</td>
            <td style={{ whiteSpace: "nowrap" }}>{s.read_at ? ago(s.read_at, now) : "never"}</td>
          </Box>
        ))}
      </tbody>
    </Box>
  );
}

function Summary({ servers }: { servers: Server[] }) {
  const read = servers.filter((s) => s.read_at);
  const off = servers.filter((s) => s.off > 0);
  const exposed = servers.filter((s) => s.exposed > 0);
  const failed = servers.filter((s) => s.failure);
  return (
    <Box sx={{ display: "grid", gap: 1.5 }}>
      <Title level={2}>{read.length ? `${off.length} of ${servers.length} servers are off the baseline` : "Nothing is read yet"}</Title>
      {read.length > 0 ? (
        <Box sx={{ fontSize: 13.5, color: "text.secondary" }}>{count(exposed.length, "server")} miss a security fix. Pick servers in the rack to see what each needs, or take all that are off.</Box>
      ) : (
        <Box sx={{ fontSize: 13.5, color: "text.secondary" }}>Read all servers to see where each stands. Reading changes nothing on a server and does not touch its operating system.</Box>
      )}
      {off.length > 0 && <Acts servers={off} />}
      {failed.map((s) => s.failure && <Trouble key={s.name} title={`${s.name}: ${s.failure.cause}`}>{s.failure.detail}. {s.failure.remedy}</Trouble>)}
    </Box>
  );
}

function Several({ servers }: { servers: Server[] }) {
  const outages = servers.reduce((sum, s) => sum + s.outages, 0);
  return (
    <Box sx={{ display: "grid", gap: 1.5 }}>
      <Title level={2}>{servers.length} servers selected</Title>
      <Box sx={{ fontSize: 13.5, color: "text.secondary" }}>
        {servers.filter((s) => s.off).length} are off the baseline, {count(outages, "outage")} to pay in all. The selection is kept in the other places.
      </Box>
      <Acts servers={servers} />
      <Box component="ul" sx={{ m: 0, pl: 2.25, fontSize: 13 }}>{servers.map((s) => <li key={s.name}><strong>{s.name}</strong> {s.resets || (s.off ? "no reset" : "level")}</li>)}</Box>
    </Box>
  );
}
