import Box from "@mui/material/Box";
import { styled } from "@mui/material/styles";
import { useVirtualizer } from "@tanstack/react-virtual";
import { type CSSProperties, useRef, useState } from "react";

import type { Run, RunServer } from "../api/client";
import { ink } from "../theme/theme";
import { type Row, tellBand } from "./bands";
import type { Scale, Stretch } from "./timescale";
import { BAND, BandRow, LANE, LaneRow } from "./TimetableRow";
import { useLaneDrag } from "./useLaneDrag";
import { stretchKey, type Stretched, useStretchGestures } from "./useStretch";

/** Minutes that a key moves a lane by. */
const STEP_MIN = 5;

interface Props {
  run: Run;
  /** Where lanes can be moved: told by how many seconds, and whether it is let go of there; null: it was let be. */
  shift?: (lane: RunServer, seconds: number | null, isDone: boolean) => void;
  picked: string | null;
  pick: (server: string) => void;
  rows: Row[];
  scale: Scale;
  time: Stretched;
  whole: Stretch;
  left: number;
  width: number;
  at: number;
  toggle: (band: string) => void;
  isRunning: boolean;
}

const nameOf = (row: Row): string => (row.band ? `band ${row.band.name}` : row.lane.server);
const idOf = (row: Row): string => `lane-${nameOf(row).replaceAll(/\W/g, "-")}`;

/** The lanes, each where the list puts it; what is dragged goes along with the pointer, by ``--by``. */
const Rows = styled("div")({
  position: "relative",
  overflow: "auto",
  maxHeight: "max(260px, calc(100vh - 380px))",
  touchAction: "pan-y",
  "& [role=treeitem]": {
    position: "absolute",
    inset: "0 0 auto 0",
    display: "flex",
    cursor: "pointer",
    borderBottom: `1px solid ${ink("rule")}`,
    outlineOffset: -1,
    "&:hover, &.picked": { backgroundColor: ink("water2") },
    "&.dragged svg > g": { translate: "var(--by) 0", opacity: 0.7 },
    "&.active": { outline: `1px solid ${ink("water")}` },
  },
  // Drawn, not written: it is no part of the name.
  "& .fold::before": { content: '"▸ "' },
  "& [aria-expanded=true] .fold::before": { content: '"▾ "' },
  "& .now": {
    position: "absolute",
    inset: "0 auto 0 auto",
    width: 1.6,
    backgroundColor: ink("deep"),
    pointerEvents: "none",
  },
});

/** Bands and lanes below one another. Only those in sight are drawn; arrows walk all of them. */
export function TimetableRows(props: Props) {
  const { rows, scale, time, whole, left, width, at, picked, pick, toggle, run, shift } = props;
  const scroller = useRef<HTMLDivElement>(null);
  const [walked, walk] = useState<string | null>(null);
  useStretchGestures(scroller, time, whole, { left, width });
  const list = useVirtualizer({
    count: rows.length,
    getScrollElement: () => scroller.current,
    estimateSize: (i) => (rows[i]?.band ? BAND : LANE),
    getItemKey: (i) => (rows[i] ? nameOf(rows[i]) : i),
    overscan: 6,
  });
  const active = rows.findIndex((row) => nameOf(row) === (walked ?? picked));
  const press = (row: Row) => {
    walk(nameOf(row));
    if (row.band) toggle(row.band.name);
    else pick(row.lane.server);
  };
  const drag = useLaneDrag(
    (row) => rows[row]?.lane,
    (pixels) => (pixels / width) * (scale.to - scale.from),
    shift,
  );
  const onKeyDown = (event: React.KeyboardEvent) => {
    const row = rows[active];
    const way = { ArrowRight: 1, ArrowLeft: -1 }[event.key];
    if (event.altKey && way && row?.lane && shift) {
      event.preventDefault();
      shift(row.lane, way * STEP_MIN * 60, true);
      return;
    }
    const to = { ArrowDown: active + 1, ArrowUp: active - 1, Home: 0, End: rows.length - 1 }[event.key];
    const next = to === undefined ? undefined : rows[Math.max(0, Math.min(to, rows.length - 1))];
    if (next && !event.shiftKey) {
      walk(nameOf(next));
      list.scrollToIndex(rows.indexOf(next));
    } else if (row && (event.key === "Enter" || event.key === " ")) press(row);
    else if (row?.band && event.key === (row.isOpen ? "ArrowLeft" : "ArrowRight") && !event.shiftKey)
      press(row);
    else if (!stretchKey(time, event)) return;
    event.preventDefault();
  };
  return (
    <Rows
      ref={scroller}
      role="tree"
      aria-label="Lanes"
      tabIndex={0}
      aria-activedescendant={rows[active] && idOf(rows[active])}
      onKeyDown={onKeyDown}
      {...drag.handlers}
      onClick={({ target }) => {
        if (drag.wasDragged()) return;
        const at = target instanceof Element && target.closest<HTMLElement>("[data-row]")?.dataset.row;
        const row = rows[Number(at || NaN)];
        if (row) press(row);
      }}
      style={{ "--by": `${drag.pixels}px` } as CSSProperties}
    >
      <Box sx={{ height: list.getTotalSize(), position: "relative" }}>
        {list.getVirtualItems().map((item) => {
          const row = rows[item.index];
          if (!row) return null;
          return (
            <div
              key={item.key}
              id={idOf(row)}
              role="treeitem"
              tabIndex={-1}
              data-row={item.index}
              aria-level={row.lane && rows[0]?.band ? 2 : 1}
              aria-expanded={row.band ? row.isOpen : undefined}
              aria-selected={row.lane ? row.lane.server === picked : false}
              aria-label={
                row.band ? `${row.band.name}: ${tellBand(row.band.lanes).join(", ")}` : tellLane(row.lane)
              }
              className={`${row.lane && row.lane.server === picked ? "picked" : ""} ${item.index === active ? "active" : ""} ${item.index === drag.row ? "dragged" : ""}`}
              style={{ height: item.size, transform: `translateY(${item.start}px)` }}
            >
              {row.band ? (
                <BandRow
                  band={row.band}
                  isOpen={row.isOpen}
                  {...{ scale, left, width, at }}
                  isRunning={props.isRunning}
                />
              ) : (
                <LaneRow
                  lane={row.lane}
                  indent={Boolean(rows[0]?.band)}
                  {...{ scale, left, width, at }}
                  isRunning={props.isRunning}
                />
              )}
            </div>
          );
        })}
        {run.state === "running" && at >= scale.from && at <= scale.to && (
          <div aria-hidden className="now" style={{ left: left + scale.x(at) - 0.8 }} />
        )}
      </Box>
    </Rows>
  );
}

const tellLane = (lane: RunServer): string =>
  [
    `${lane.server}: ${lane.ended || (lane.question ? "asks" : lane.state)}`,
    lane.detail,
    ...(lane.happened.length ? [] : lane.waits.map((wait) => `waits ${wait.why}`)),
  ]
    .filter(Boolean)
    .join(", ");
