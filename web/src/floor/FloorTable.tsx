import Box from "@mui/material/Box";
import TextField from "@mui/material/TextField";
import { useVirtualizer } from "@tanstack/react-virtual";
import { useMemo, useRef, useState } from "react";

import { useParam } from "../shell/selection";
import { fonts, ink } from "../theme/theme";
import { type Lens, lensOf } from "./lenses";
import { type Spot, tellOff, tellResets } from "../waterline/spots";

type Column = "name" | "place" | "model" | "off" | "resets" | "lens";
const COLUMNS: [Column, string, string][] = [
  ["name", "Server", "minmax(96px,1fr)"],
  ["place", "Place", "minmax(90px,.9fr)"],
  ["model", "Model", "minmax(120px,1.1fr)"],
  ["off", "Off the baseline", "minmax(150px,1.8fr)"],
  ["resets", "Resets to pay", "minmax(140px,1.4fr)"],
];
const ROW = 27;
const AGE = lensOf("age");

const place = (s: Spot): string => [s.room, s.rack, s.unit || ""].filter(Boolean).join(" ");
const KEYS: Record<Column, (s: Spot) => number | string> = {
  name: (s) => s.name,
  place: (s) => `${s.room} ${s.rack} ${String(100 - s.unit).padStart(3, "0")}`,
  model: (s) => s.model || "~",
  off: (s) => -(s.exposed * 100 + s.off),
  resets: (s) => -(s.outages * 10 + s.restarts),
  lens: (s) => -s.read,
};

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
  const box = useRef<HTMLDivElement>(null);
  const chosen = useMemo(() => new Set(selected), [selected]);
  const rows = useMemo(() => {
    const wanted = words.toLowerCase().split(/\s+/).filter(Boolean);
    const found = spots.filter((s) =>
      wanted.every((w) =>
        `${s.name} ${s.serial} ${s.model} ${s.rack} ${s.group} ${s.failure} ${s.hindrances}`
          .toLowerCase()
          .includes(w),
      ),
    );
    const key = KEYS[(by as Column | null) ?? "place"] ?? KEYS.place;
    return found.sort((a, b) => (key(a) < key(b) ? -1 : key(a) > key(b) ? 1 : a.name.localeCompare(b.name)));
  }, [spots, words, by]);
  const list = useVirtualizer({
    count: rows.length,
    getScrollElement: () => box.current,
    estimateSize: () => ROW,
    overscan: 12,
  });
  const grid = {
    display: "grid",
    gridTemplateColumns: `30px ${COLUMNS.map(([, , w]) => w).join(" ")} minmax(84px,.8fr)`,
    alignItems: "center",
    columnGap: 1,
  } as const;
  const head = {
    all: "unset",
    cursor: "pointer",
    fontFamily: fonts.title,
    fontWeight: 600,
    fontSize: 12.5,
    color: ink("ink2"),
    "&:focus-visible": { outline: `2px solid ${ink("water")}` },
  } as const;
  return (
    <Box sx={{ display: "grid", gridTemplateRows: "auto minmax(0,1fr)", minHeight: 0, gap: 0.75 }}>
      <TextField
        size="small"
        label={`Find among ${spots.length} servers`}
        value={words}
        onChange={(e) => setWords(e.target.value)}
        sx={{ maxWidth: 340 }}
      />
      <Box
        ref={box}
        role="table"
        aria-label="Servers"
        aria-rowcount={rows.length + 1}
        tabIndex={0}
        sx={{
          overflow: "auto",
          minHeight: 0,
          bgcolor: "background.paper",
          border: `1px solid ${ink("ink")}`,
          fontSize: 13,
        }}
      >
        <Box
          role="rowgroup"
          sx={{
            position: "sticky",
            top: 0,
            zIndex: 1,
            bgcolor: "background.paper",
            borderBottom: `1px solid ${ink("ink")}`,
          }}
        >
          <Box role="row" aria-rowindex={1} sx={{ ...grid, px: 1, height: 30 }}>
            <Box role="columnheader">
              <input
                type="checkbox"
                aria-label="Select all shown"
                checked={rows.length > 0 && rows.every((s) => chosen.has(s.name))}
                onChange={(e) => select(e.target.checked ? rows.map((s) => s.name) : [])}
              />
            </Box>
            {COLUMNS.map(([column, label]) => (
              <Box
                key={column}
                role="columnheader"
                aria-sort={(by ?? "place") === column ? "ascending" : undefined}
              >
                <Box component="button" onClick={() => setBy(column === "place" ? null : column)} sx={head}>
                  {label}
                  {(by ?? "place") === column ? " ↓" : ""}
                </Box>
              </Box>
            ))}
            <Box role="columnheader">
              <Box component="button" onClick={() => setBy("lens")} sx={head}>
                {lens.name === "waterline" ? "Reading" : lens.label}
              </Box>
            </Box>
          </Box>
        </Box>
        <Box role="rowgroup" sx={{ height: list.getTotalSize(), position: "relative" }}>
          {list.getVirtualItems().map((item) => {
            const s = rows[item.index];
            if (!s) return null;
            return (
              <Box
                key={s.name}
                role="row"
                aria-rowindex={item.index + 2}
                sx={{
                  ...grid,
                  px: 1,
                  position: "absolute",
                  left: 0,
                  right: 0,
                  height: ROW,
                  transform: `translateY(${item.start}px)`,
                  bgcolor: chosen.has(s.name) ? ink("water2") : undefined,
                  borderBottom: `1px solid ${ink("rule")}`,
                  "& > *": { overflow: "hidden", textOverflow: "ellipsis", whiteSpace: "nowrap" },
                }}
              >
                <Box role="cell">
                  <input
                    type="checkbox"
                    aria-label={`Select ${s.name}`}
                    checked={chosen.has(s.name)}
                    onChange={() => toggle(s.name)}
                  />
                </Box>
                <Box role="cell">
                  <Box
                    component="button"
                    onClick={() => select([s.name])}
                    sx={{
                      all: "unset",
                      cursor: "pointer",
                      fontWeight: 650,
                      "&:hover": { textDecoration: "underline" },
                      "&:focus-visible": { outline: `2px solid ${ink("water")}` },
                    }}
                  >
                    {s.name}
                  </Box>
                </Box>
                <Box role="cell">{place(s)}</Box>
                <Box role="cell">{s.model}</Box>
                <Box
                  role="cell"
                  title={tellOff(s)}
                  sx={{ color: s.failure || s.exposed ? ink("deep") : undefined }}
                >
                  {s.failure ? s.failure : tellOff(s)}
                  {s.exposed > 0 && `, ${s.exposed} exposed`}
                  {s.lost > 0 && `, ${s.lost} vanished`}
                </Box>
                <Box role="cell">{tellResets(s) || "–"}</Box>
                <Box role="cell">{(lens.name === "waterline" ? AGE : lens).view(s, now).text}</Box>
              </Box>
            );
          })}
        </Box>
      </Box>
    </Box>
  );
}
