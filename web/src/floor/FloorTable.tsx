import TextField from "@mui/material/TextField";
import { styled } from "@mui/material/styles";
import { useMemo, useState } from "react";

import { useParam } from "../shell/selection";
import { type Column, DataTable } from "../ui/DataTable";
import { Text } from "../ui/layout";
import { Press } from "../ui/Press";
import { type Spot, tellOff, tellResets } from "../waterline/spots";
import { type Lens, lensOf } from "./lenses";

const AGE = lensOf("age");

const Frame = styled("div")(({ theme }) => ({
  display: "grid",
  gridTemplateRows: "auto minmax(0,1fr)",
  minHeight: 0,
  gap: theme.spacing(0.75),
  "& .MuiTextField-root": { maxWidth: 340 },
}));

/** Units count from the bottom; a table is read from the top. */
const placeKey = (s: Spot): string =>
  `${s.room} ${s.rack} ${String(100 - s.unit).padStart(3, "0")} ${s.name}`;
const place = (s: Spot): string => [s.room, s.rack, s.unit || ""].filter(Boolean).join(" ");

function Off({ spot: s }: { spot: Spot }) {
  const told = s.failure || tellOff(s);
  return (
    <Text as="span" tone={s.failure || s.exposed ? "deep" : undefined}>
      {told}
      {s.exposed > 0 && `, ${s.exposed} exposed`}
      {s.lost > 0 && `, ${s.lost} vanished`}
    </Text>
  );
}

function columnsOf(lens: Lens, now: number, open: (name: string) => void): Column<Spot>[] {
  const last = lens.name === "waterline" ? AGE : lens;
  return [
    {
      key: "name",
      head: "Server",
      width: "minmax(96px,1fr)",
      by: (s) => s.name,
      cell: (s) => (
        <Press type="button" tone="plain" strong onClick={() => open(s.name)}>
          {s.name}
        </Press>
      ),
    },
    { key: "place", head: "Place", width: "minmax(90px,.9fr)", by: placeKey, cell: place },
    {
      key: "model",
      head: "Model",
      width: "minmax(120px,1.1fr)",
      by: (s) => s.model || "~",
      cell: (s) => s.model,
    },
    {
      key: "off",
      head: "Off the baseline",
      width: "minmax(150px,1.8fr)",
      by: (s) => -(s.exposed * 100 + s.off),
      cell: (s) => <Off spot={s} />,
      whole: tellOff,
    },
    {
      key: "resets",
      head: "Resets to pay",
      width: "minmax(140px,1.4fr)",
      by: (s) => -(s.outages * 10 + s.restarts),
      cell: (s) => tellResets(s) || "–",
    },
    {
      key: "lens",
      head: lens.name === "waterline" ? "Reading" : lens.label,
      width: "minmax(84px,.8fr)",
      by: (s) => -s.read,
      cell: (s) => last.view(s, now).text,
    },
  ];
}

const textOf = (s: Spot): string =>
  `${s.name} ${s.serial} ${s.model} ${s.rack} ${s.group} ${s.failure} ${s.hindrances}`.toLowerCase();

interface Props {
  spots: Spot[];
  lens: Lens;
  now: number;
  selected: string[];
  select: (names: string[]) => void;
  toggle: (name: string) => void;
}

/** The same floor as a table: every server, sorted and filtered at once, however many there are. */
export function FloorTable({ spots, lens, now, selected, select, toggle }: Props) {
  const [by, setBy] = useParam("by");
  const [words, setWords] = useState("");
  const rows = useMemo(() => {
    const wanted = words.toLowerCase().split(/\s+/).filter(Boolean);
    return spots.filter((s) => wanted.every((w) => textOf(s).includes(w)));
  }, [spots, words]);
  const columns = useMemo(() => columnsOf(lens, now, (name) => select([name])), [lens, now, select]);
  return (
    <Frame>
      <TextField
        size="small"
        label={`Find among ${spots.length} servers`}
        value={words}
        onChange={(e) => setWords(e.target.value)}
      />
      <DataTable
        label="Servers"
        rows={rows}
        columns={columns}
        nameOf={(s) => s.name}
        sorted={by ?? "place"}
        sort={(sorted) => setBy(sorted === "place" ? null : sorted)}
        selected={selected}
        select={select}
        toggle={toggle}
      />
    </Frame>
  );
}
