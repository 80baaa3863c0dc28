import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useRef } from "react";

import { api, take } from "../api/client";
import { floor as floorQuery } from "../waterline/spots";
import { spell } from "../shell/kept";
import { later } from "../shell/later";
import { Act } from "../ui/Act";
import { EmptyPlace } from "../ui/EmptyPlace";
import { Notice } from "../ui/Notice";
import { Split } from "../ui/Split";
import { Title } from "../ui/text";
import { useParam, useSelection } from "../shell/selection";
import { useSiteNow } from "../shell/time";
import { Legend } from "../waterline/GlyphRow";
import { type Lens, lensOf, LENSES } from "./lenses";
import { RackPlan, type Zoomer } from "./RackPlan";
import { ServerPanel } from "./ServerPanel";
import { Several, Summary } from "./Summary";
import { readAgain } from "../shell/reading";
import type { Spot } from "../waterline/spots";
import { Block, Row } from "../ui/layout";
import { MarkList, Swatch } from "../ui/MarkList";
import { Pill, Sign } from "../ui/Pill";

const AddServers = later(async () => (await import("./AddServers")).AddServers);
const FloorTable = later(async () => (await import("./FloorTable")).FloorTable);
const Groups = later(async () => (await import("./Groups")).Groups);

/** The house as one walks up to it: rooms and racks to scale, each server with its row of marks. */
export function FloorPlace() {
  const { data, error } = useQuery(floorQuery);
  const { names, select, toggle } = useSelection();
  const [adding, setAdding] = useParam("add");
  const [grouping, setGrouping] = useParam("groups");
  const [lensName, setLens] = useParam("lens");
  const [as, setAs] = useParam("as");
  const now = useSiteNow(15_000);
  const zoomer: Zoomer = useRef(null);
  if (error)
    return (
      <Block p={3}>
        <Notice>{error.message}</Notice>
      </Block>
    );
  if (!data) return null;
  const lens = lensOf(lensName);
  const wanted = new Set(names);
  const chosen = data.filter((s) => wanted.has(s.name));
  const panel = adding ? (
    <AddServers done={() => setAdding(null)} />
  ) : grouping ? (
    <Groups done={() => setGrouping(null)} />
  ) : names.length === 1 ? (
    <ServerPanel name={names[0] ?? ""} />
  ) : names.length > 1 ? (
    <Several spots={chosen} />
  ) : (
    <Summary spots={data} />
  );
  const about = adding
    ? "Add servers"
    : grouping
      ? "Groups"
      : names.length > 1
        ? `${names.length} servers selected`
        : (names[0] ?? null);
  if (data.length === 0 && !adding) {
    return (
      <EmptyPlace
        drawing="racks"
        title="No server yet"
        act={
          <Act takes="keep" variant="contained" onClick={() => setAdding("1")}>
            Add servers
          </Act>
        }
      >
        The Floor shows the racks of the house with every server's firmware at a glance. Add servers by the
        addresses of their management controllers, from a list, or by searching the network.
      </EmptyPlace>
    );
  }
  return (
    <Split label="Floor" panel={panel} width={adding || grouping ? 470 : 330} about={about}>
      <Box
        sx={{
          display: "grid",
          gridTemplateRows: "auto auto minmax(0,1fr)",
          gridTemplateColumns: "minmax(0,1fr)",
          height: "100%",
          minHeight: 420,
          gap: 0.75,
        }}
      >
        <Head
          spots={data}
          add={() => setAdding("1")}
          group={() => setGrouping("1")}
          table={as === "table"}
          setTable={(on) => setAs(on ? "table" : null)}
          chosen={names}
          zoomer={zoomer}
        />
        <Lenses lens={lens} choose={(name) => setLens(name === "waterline" ? null : name)} />
        {as === "table" ? (
          <FloorTable spots={data} lens={lens} now={now} selected={names} select={select} toggle={toggle} />
        ) : (
          <RackPlan spots={data} lens={lens} selected={names} select={select} now={now} zoomer={zoomer} />
        )}
      </Box>
    </Split>
  );
}

function Head({
  spots,
  add,
  group,
  table,
  setTable,
  chosen,
  zoomer,
}: {
  spots: Spot[];
  add: () => void;
  group: () => void;
  table: boolean;
  setTable: (on: boolean) => void;
  chosen: string[];
  zoomer: Zoomer;
}) {
  const read = useMutation({ mutationFn: () => readAgain([]) });
  const failed = spots.filter((s) => s.failure).length;
  const again = useMutation({
    mutationFn: () => take(api.POST("/api/v1/surveys", { body: { failed: true } })),
  });
  const query = chosen.length ? `?servers=${spell(chosen)}` : "";
  return (
    <Box>
      <Row wrap align="center" gap={1}>
        <Title>{spots.length.toLocaleString("en-GB")} servers</Title>
        <Row gap={1.5} size="note" tone="quiet">
          <a
            href={`/api/v1/exports/servers.csv${query ? `${query}&` : "?"}for=spreadsheet`}
            aria-label="CSV for a spreadsheet"
            title="For a spreadsheet: versions and serials stay as they are"
            download
          >
            CSV
          </a>
          <a href={`/api/v1/exports/servers.csv${query}`} title="For programs: every value as it is" download>
            Plain CSV
          </a>
          <a href={`/api/v1/exports/readings.json${query}`} download>
            Readings (JSON)
          </a>
        </Row>
        {!table && <Zoom zoomer={zoomer} />}
        <Row ml="auto" wrap gap={1}>
          <Button variant="outlined" aria-pressed={table} onClick={() => setTable(!table)}>
            {table ? "Show as racks" : "Show as table"}
          </Button>
          {failed > 0 && (
            <Act takes="plan" variant="outlined" onClick={() => again.mutate()} loading={again.isPending}>
              Read again what failed ({failed})
            </Act>
          )}
          <Button variant="outlined" onClick={group}>
            Groups
          </Button>
          <Act takes="keep" variant="outlined" onClick={add}>
            Add servers
          </Act>
          <Act takes="plan" variant="contained" onClick={() => read.mutate()} loading={read.isPending}>
            Read all servers
          </Act>
        </Row>
      </Row>
      {(read.error ?? again.error) && <Notice>{(read.error ?? again.error)?.message}</Notice>}
    </Box>
  );
}

function Zoom({ zoomer }: { zoomer: Zoomer }) {
  const button = (sign: string, label: string, factor: number | null) => (
    <Sign aria-label={label} title={label} onClick={() => zoomer.current?.(factor)}>
      {sign}
    </Sign>
  );
  return (
    <Row gap={0.5}>
      {button("−", "Further away", 1 / 1.5)}
      {button("0", "0, everything in sight", null)}
      {button("+", "Closer", 1.5)}
    </Row>
  );
}

/** One question at a time is asked of the whole floor; what the marks mean stands beside it. */
function Lenses({ lens, choose }: { lens: Lens; choose: (name: string) => void }) {
  return (
    <Box sx={{ display: "flex", flexWrap: "wrap", alignItems: "center", columnGap: 2, rowGap: 0.5 }}>
      <Row role="radiogroup" aria-label="Show" gap={0.25}>
        {LENSES.map((one) => (
          <Pill
            key={one.name}
            role="radio"
            aria-checked={one === lens}
            title={one.asks}
            onClick={() => choose(one.name)}
            on={one === lens}
          >
            {one.label}
          </Pill>
        ))}
      </Row>
      {lens.legend.length === 0 && lens.name === "waterline" ? (
        <Legend />
      ) : (
        <MarkList aria-label="Legend">
          {lens.legend.map(([tone, part, words]) => (
            <Row as="li" key={words} gap={0.75} align="center">
              <Swatch tone={tone} part={part} />
              {words}
            </Row>
          ))}
          {lens.legend.length === 0 && <li>{lens.asks}</li>}
        </MarkList>
      )}
    </Box>
  );
}
