import Box from "@mui/material/Box";
import { type KeyboardEvent, type PointerEvent, useRef, useState } from "react";

import type { CoverageRow, Issue } from "../api/client";
import { count, month } from "../shell/format";
import { Hint } from "../ui/Hint";
import { pressable } from "../ui/pressable";
import { useWidth } from "../shell/width";
import { fonts, ink } from "../theme/theme";
import { type Bar, HEAD, layoutCoverage, nearest, nextStop } from "./coverage-layout";

interface Props {
  rows: CoverageRow[];
  issues: Issue[];
  held: Map<string, string>;
  move: (row: CoverageRow, issue: string) => void;
  toSources: () => void;
}

/** What tells one bar from another: its model, maker and catalog. */
export const keyOf = (row: Pick<CoverageRow, "model" | "maker" | "catalog">): string =>
  `${row.model}|${row.maker}|${row.catalog}`;

/** Narrower than this its words would run into each other: a phone moves it sideways, within its frame. */
const NARROWEST = 600;

/** Which issues cover each model of this house, as bars over time, with a pin on the one it follows. */
export function Coverage({ rows, issues, held, move, toSources }: Props) {
  const { ref, width: room } = useWidth();
  const width = Math.max(room, NARROWEST);
  const { columns, bars, height } = layoutCoverage(rows, issues, width);
  const every = Math.max(1, Math.ceil(50 / Math.max(1, (columns[1]?.x ?? 99) - (columns[0]?.x ?? 0))));
  return (
    <Box ref={ref} sx={{ overflowX: room < NARROWEST ? "auto" : "hidden", overflowY: "hidden" }}>
      <svg
        width={width}
        height={height}
        style={{ display: "block" }}
        role="group"
        aria-label="Which issue each model follows"
      >
        {columns.map((c, n) => (
          <g key={c.date} aria-hidden>
            <line x1={c.x} x2={c.x} y1={HEAD - 6} y2={height} stroke={ink("rule")} strokeWidth={1.2} />
            {(columns.length - 1 - n) % every === 0 && (
              <text
                x={c.x}
                y={HEAD - 13}
                textAnchor="middle"
                fontSize={12}
                fontFamily={fonts.title}
                fontWeight={n === columns.length - 1 ? 750 : 500}
                fill={ink("ink")}
              >
                {month(c.date)}
              </text>
            )}
          </g>
        ))}
        {bars.map((bar) => (
          <Row
            key={keyOf(bar.row)}
            bar={bar}
            list={listFor(bar.row.model, rows)}
            issues={issues}
            before={held.get(keyOf(bar.row))}
            width={width}
            move={move}
            toSources={toSources}
          />
        ))}
      </svg>
    </Box>
  );
}

/** The maker's list for every model that a model without a catalog of its own goes by, if the house follows one. */
const listFor = (model: string, rows: CoverageRow[]): string | undefined =>
  rows.find((r) => !r.model && r.followed && model.startsWith(`${r.maker} `))?.maker;

interface RowProps {
  bar: Bar;
  list: string | undefined;
  issues: Issue[];
  before: string | undefined;
  width: number;
  move: Props["move"];
  toSources: () => void;
}

function Row({ bar, list, issues, before, width, move, toSources }: RowProps) {
  const { row, y, stops } = bar;
  const first = stops[0]?.x ?? 0;
  const last = stops[stops.length - 1]?.x ?? 0;
  const dropped = issues.find(
    (i) => i.catalog === row.catalog && i.maker === row.maker && i.issue === row.dropped_after,
  );
  const ghost = before && before !== row.followed ? stops.find((s) => s.issue === before) : undefined;
  return (
    <g>
      <text x={0} y={y - 2} fontSize={13.5} fontWeight={650} fontFamily={fonts.text} fill={ink("ink")}>
        {row.model || `${row.maker}: every model`}
      </text>
      <text x={0} y={y + 13} fontSize={12} fontFamily={fonts.text} fill={ink("ink2")}>
        {count(row.servers, "server")}
        {row.model && row.maker && !row.model.startsWith(row.maker) ? `, ${row.maker}` : ""}
        {!row.followed && row.covered.length
          ? ", not followed yet"
          : row.followed && !row.signed_by
            ? ", unsigned"
            : ""}
      </text>
      {stops.length === 0 && list ? (
        <text x={178} y={y + 4} fontSize={12} fontFamily={fonts.text} fill={ink("ink2")}>
          goes by {list}’s list for every model, below
        </text>
      ) : stops.length === 0 ? (
        <>
          <line
            x1={168}
            x2={width - 10}
            y1={y}
            y2={y}
            stroke={ink("ink3")}
            strokeDasharray="2 4"
            strokeWidth={1.6}
          />
          <text x={178} y={y + 15} fontSize={12} fontFamily={fonts.text} fill={ink("ink2")}>
            no catalog covers it:{" "}
            <tspan fontWeight={650} fill={ink("water")}>
              look at the sources
            </tspan>
            , a folder of packages can become one
          </text>
          <rect
            {...pressable(toSources)}
            x={174}
            y={y + 3}
            width={420}
            height={16}
            fill="transparent"
            aria-label={`${row.model}: no catalog covers it; look at the sources`}
          />
        </>
      ) : (
        <>
          <line
            x1={first - 14}
            x2={last + 14}
            y1={y}
            y2={y}
            stroke={ink("water2")}
            strokeWidth={13}
            strokeLinecap="round"
          />
          {stops.map((s) => (
            <circle key={s.issue} cx={s.x} cy={y} r={2} fill={ink("water")} aria-hidden />
          ))}
          {dropped && (
            <>
              <line
                x1={last + 24}
                x2={last + 24}
                y1={y - 9}
                y2={y + 9}
                stroke={ink("deep")}
                strokeWidth={2}
              />
              <text x={last + 31} y={y + 4} fontSize={12} fontFamily={fonts.text} fill={ink("deep")}>
                dropped after {month(dropped.issued)}
              </text>
            </>
          )}
          {ghost && (
            <circle
              cx={ghost.x}
              cy={y}
              r={8}
              fill="none"
              stroke={ink("ink2")}
              strokeDasharray="2 2"
              aria-hidden
            />
          )}
          <Pin bar={bar} issues={issues} move={move} />
        </>
      )}
    </g>
  );
}

/** A pin that is moved by mouse, finger or keys: a slider whose stops are the issues that cover the model. */
function Pin({ bar, issues, move }: { bar: Bar; issues: Issue[]; move: Props["move"] }) {
  const { row, stops, y } = bar;
  const [drag, setDrag] = useState<number | null>(null);
  const svg = useRef<SVGGElement>(null);
  const place = (event: PointerEvent): number =>
    event.clientX - (svg.current?.ownerSVGElement?.getBoundingClientRect().left ?? 0);
  const at = stops.findIndex((s) => s.issue === row.followed);
  const told = issues.find(
    (i) => i.maker === row.maker && i.catalog === row.catalog && i.issue === row.followed,
  );
  const keys = (event: KeyboardEvent) => {
    const next = nextStop(stops, row.followed, event.key);
    if (!next) return;
    event.preventDefault();
    if (next.issue !== row.followed) move(row, next.issue);
  };
  const x = drag === null ? (bar.pin ?? stops[stops.length - 1]?.x ?? 0) : (nearest(stops, drag)?.x ?? drag);
  const says = `${row.followed ?? "no issue yet"}${told ? `, ${month(told.issued)}` : ""}${row.signed_by || !row.followed ? "" : ", unsigned"}`;
  return (
    <Hint told={`follows ${says}`}>
      <g
        ref={svg}
        role="slider"
        tabIndex={0}
        aria-label={`${row.model || "Every model"} follows ${row.maker}`}
        aria-valuemin={-1}
        aria-valuemax={stops.length - 1}
        aria-valuenow={at}
        aria-valuetext={says}
        onKeyDown={keys}
        style={{ cursor: "ew-resize", touchAction: "none" }}
        onPointerDown={(event) => {
          event.currentTarget.setPointerCapture(event.pointerId);
          setDrag(place(event));
        }}
        onPointerMove={(event) => drag !== null && setDrag(place(event))}
        onPointerUp={(event) => {
          const stop = nearest(stops, place(event));
          setDrag(null);
          if (stop && stop.issue !== row.followed) move(row, stop.issue);
        }}
        onPointerCancel={() => setDrag(null)}
      >
        <rect
          x={(stops[0]?.x ?? 0) - 16}
          y={y - 14}
          width={(stops[stops.length - 1]?.x ?? 0) - (stops[0]?.x ?? 0) + 32}
          height={28}
          fill="transparent"
        />
        <circle
          cx={x}
          cy={y}
          r={9}
          fill={row.followed || drag !== null ? ink("water") : ink("sheet")}
          stroke={ink("water")}
          strokeWidth={1.6}
          strokeDasharray={row.followed || drag !== null ? undefined : "3 2"}
        />
        <circle cx={x} cy={y} r={3} fill={ink("sheet")} />
      </g>
    </Hint>
  );
}
