import { styled } from "@mui/material/styles";
import {
  type ColumnDef,
  getCoreRowModel,
  getSortedRowModel,
  type SortingState,
  useReactTable,
} from "@tanstack/react-table";
import { useVirtualizer } from "@tanstack/react-virtual";
import { type KeyboardEvent, type ReactNode, useMemo, useRef, useState } from "react";

import { fonts, ink } from "../theme/theme";

const ROW = 27;
const HEAD = 30;

/** One column of a data table. */
export interface Column<T> {
  key: string;
  head: string;
  /** A track of a CSS grid. */
  width: string;
  cell: (row: T) => ReactNode;
  /** What the column is sorted by; equal rows keep their order. */
  by: (row: T) => string | number;
  /** The whole text, where the cell may be too narrow for it. */
  whole?: (row: T) => string;
}

interface Props<T> {
  label: string;
  rows: T[];
  columns: Column<T>[];
  nameOf: (row: T) => string;
  /** The column that sorts, after a minus when its last row comes first. */
  sorted: string;
  sort: (sorted: string) => void;
  selected: string[];
  select: (names: string[]) => void;
  toggle: (name: string) => void;
}

const Scroller = styled("div")(({ theme }) => ({
  overflow: "auto",
  minHeight: 0,
  backgroundColor: theme.vars?.palette.background.paper,
  border: `1px solid ${ink("ink")}`,
  fontSize: 13,
  "& .head": {
    position: "sticky",
    top: 0,
    zIndex: 1,
    backgroundColor: theme.vars?.palette.background.paper,
    borderBottom: `1px solid ${ink("ink")}`,
  },
  "& [role=row]": { display: "grid", alignItems: "center", columnGap: 8, padding: "0 8px", minWidth: 760 },
  "& .head [role=row]": { height: HEAD },
  "& .body": { position: "relative", minWidth: 760 },
  "& .body [role=row]": {
    position: "absolute",
    left: 0,
    right: 0,
    height: ROW,
    borderBottom: `1px solid ${ink("rule")}`,
    outlineOffset: -1,
  },
  "& .body [aria-selected=true]": { backgroundColor: ink("water2") },
  "& .body .active": { outline: `1px solid ${ink("water")}` },
  "& [role=gridcell]": { overflow: "hidden", textOverflow: "ellipsis", whiteSpace: "nowrap" },
}));

const Sorter = styled("button")({
  all: "unset",
  cursor: "pointer",
  fontFamily: fonts.title,
  fontWeight: 600,
  fontSize: 12.5,
  color: ink("ink2"),
  "&:focus-visible": { outline: `2px solid ${ink("water")}` },
});

/**
 * Thousands of rows: sorted by any column, chosen by mouse and by keys, only those in sight drawn. A screen reader has
 * all of it: the head stays, rows say their place among all.
 */
export function DataTable<T>({
  label,
  rows,
  columns,
  nameOf,
  sorted,
  sort,
  selected,
  select,
  toggle,
}: Props<T>) {
  const scroller = useRef<HTMLDivElement>(null);
  const [active, draw] = useState(-1);
  // Keys may come faster than the table is drawn: where they came to stands here.
  const at = useRef(-1);
  const activate = (next: number) => {
    at.current = next;
    draw(next);
  };
  const anchor = useRef(-1);
  const sorting = useMemo<SortingState>(
    () => [{ id: sorted.replace(/^-/, ""), desc: sorted.startsWith("-") }],
    [sorted],
  );
  const definitions = useMemo<ColumnDef<T>[]>(
    () => columns.map(({ key, by }) => ({ id: key, accessorFn: by, sortingFn: "basic" })),
    [columns],
  );
  const table = useReactTable({
    data: rows,
    columns: definitions,
    getRowId: nameOf,
    state: { sorting },
    enableSortingRemoval: false,
    getCoreRowModel: getCoreRowModel(),
    getSortedRowModel: getSortedRowModel(),
  });
  const shown = table.getRowModel().rows;
  const chosen = useMemo(() => new Set(selected), [selected]);
  const list = useVirtualizer({
    count: shown.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => ROW,
    scrollMargin: HEAD,
    overscan: 12,
  });
  const names = (from: number, to: number) =>
    shown.slice(Math.max(0, Math.min(from, to)), Math.max(from, to) + 1).map((row) => row.id);
  const flip = (index: number) => {
    anchor.current = index;
    activate(index);
    for (const name of names(index, index)) toggle(name);
  };
  const onKeyDown = (event: KeyboardEvent) => {
    if (event.target !== event.currentTarget) return;
    const page = Math.max(1, Math.floor((scroller.current?.clientHeight ?? 0) / ROW) - 2);
    const to = {
      ArrowDown: at.current + 1,
      ArrowUp: at.current - 1,
      PageDown: at.current + page,
      PageUp: at.current - page,
      Home: 0,
      End: shown.length - 1,
    }[event.key];
    if (to !== undefined) {
      const next = Math.max(0, Math.min(to, shown.length - 1));
      activate(next);
      list.scrollToIndex(next);
      if (!event.shiftKey) anchor.current = next;
      else select(names(anchor.current < 0 ? next : anchor.current, next));
    } else if (event.key === " " && at.current >= 0) flip(at.current);
    else if (event.key === "Enter" && at.current >= 0) select(names(at.current, at.current));
    else return;
    event.preventDefault();
  };
  const tracks = { gridTemplateColumns: `30px ${columns.map((c) => c.width).join(" ")}` };
  return (
    <Scroller
      ref={scroller}
      role="grid"
      aria-label={label}
      aria-rowcount={shown.length + 1}
      aria-multiselectable
      aria-activedescendant={active >= 0 && active < shown.length ? `row-${shown[active]?.id}` : undefined}
      tabIndex={0}
      onKeyDown={onKeyDown}
    >
      <div role="rowgroup" className="head">
        <div role="row" aria-rowindex={1} style={tracks}>
          <div role="columnheader">
            <input
              type="checkbox"
              aria-label="Select all shown"
              checked={shown.length > 0 && shown.every((row) => chosen.has(row.id))}
              onChange={(e) => select(e.target.checked ? shown.map((row) => row.id) : [])}
            />
          </div>
          {columns.map(({ key, head }) => {
            const desc = sorted === `-${key}`;
            const isBy = desc || sorted === key;
            return (
              <div
                key={key}
                role="columnheader"
                aria-sort={isBy ? (desc ? "descending" : "ascending") : undefined}
              >
                <Sorter type="button" onClick={() => sort(isBy && !desc ? `-${key}` : key)}>
                  {head}
                  {isBy && <span aria-hidden>{desc ? " ↑" : " ↓"}</span>}
                </Sorter>
              </div>
            );
          })}
        </div>
      </div>
      <div role="rowgroup" className="body" style={{ height: list.getTotalSize() }}>
        {list.getVirtualItems().map((item) => {
          const row = shown[item.index];
          if (!row) return null;
          return (
            <div
              key={row.id}
              id={`row-${row.id}`}
              role="row"
              aria-rowindex={item.index + 2}
              aria-selected={chosen.has(row.id)}
              className={item.index === active ? "active" : undefined}
              style={{ ...tracks, transform: `translateY(${item.start - HEAD}px)` }}
            >
              <div role="gridcell">
                <input
                  type="checkbox"
                  aria-label={`Select ${row.id}`}
                  checked={chosen.has(row.id)}
                  onChange={() => flip(item.index)}
                />
              </div>
              {columns.map(({ key, cell, whole }) => (
                <div key={key} role="gridcell" title={whole?.(row.original)}>
                  {cell(row.original)}
                </div>
              ))}
            </div>
          );
        })}
      </div>
    </Scroller>
  );
}
