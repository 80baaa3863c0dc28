// Dragging a lane along the time axis: a pointer that goes down on a lane and moves sideways.
import { type PointerEvent, useRef, useState } from "react";

import type { RunServer } from "../api/client";

const BEGINS_PX = 6;

/** Which row is dragged by how many pixels, and what the element that holds the rows has to listen to. */
export function useLaneDrag(
  laneAt: (row: number) => RunServer | undefined,
  seconds: (pixels: number) => number,
  shift?: (lane: RunServer, seconds: number | null, isDone: boolean) => void,
) {
  const [dragged, drag] = useState<{ row: number; pixels: number } | null>(null);
  const from = useRef<{ row: number; x: number } | null>(null);
  const was = useRef(false);
  const rowOf = ({ target }: PointerEvent): number =>
    Number((target instanceof Element && target.closest<HTMLElement>("[data-row]")?.dataset.row) || NaN);
  const lane = dragged ? laneAt(dragged.row) : undefined;
  const end = (isDone: boolean) => {
    if (dragged && lane) shift?.(lane, isDone ? seconds(dragged.pixels) : null, isDone);
    from.current = null;
    drag(null);
  };
  const handlers = shift && {
    onPointerDown: (event: PointerEvent) => {
      was.current = false;
      const row = rowOf(event);
      // Names are pressed, not dragged.
      const isDrawn = event.target instanceof Element && event.target.closest("svg");
      from.current = event.button === 0 && isDrawn && laneAt(row) ? { row, x: event.clientX } : null;
    },
    onPointerMove: (event: PointerEvent) => {
      const begun = from.current;
      if (!begun) return;
      const pixels = event.clientX - begun.x;
      if (!dragged && Math.abs(pixels) < BEGINS_PX) return;
      was.current = true;
      drag({ row: begun.row, pixels });
      const moved = laneAt(begun.row);
      if (moved) shift(moved, seconds(pixels), false);
    },
    onPointerUp: () => end(true),
    onPointerLeave: () => end(false),
    onPointerCancel: () => end(false),
  };
  return {
    row: dragged?.row ?? null,
    pixels: dragged?.pixels ?? 0,
    handlers: handlers ?? {},
    /** Whether the click that ends it was no press. */
    wasDragged: () => was.current,
  };
}
