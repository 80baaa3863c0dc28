// Closer and further on a drawn view, by wheel, pinch and drag; keys and buttons change the view themselves.
import { type RefObject, useEffect, useRef } from "react";

import type { Binding } from "./zoom-binding";

/** How a drawing lies on the page: a point p of the drawing stands at k · p + (x, y). */
export interface View {
  k: number;
  x: number;
  y: number;
}

/** A view and what gestures may do with it. */
export interface Zoomed {
  view: View;
  change: (view: View) => void;
  /** The part of the page that shows the drawing: left, top, right, bottom. */
  extent: [[number, number], [number, number]];
  /** How far and how close one can go. */
  scales: [number, number];
  /** Which presses, touches and turns of the wheel are meant for the view; all others are left alone. */
  takes: (event: MouseEvent | TouchEvent | WheelEvent) => boolean;
}

/** Bind wheel, pinch and drag on an element to its view. What is allowed is up to ``change``, which may move it back. */
export function useZoom(ref: RefObject<HTMLElement | null>, zoomed: Zoomed): void {
  const latest = useRef(zoomed);
  const binding = useRef<Binding>(null);
  useEffect(() => {
    latest.current = zoomed;
    binding.current?.follow(zoomed);
  });
  useEffect(() => {
    let isGone = false;
    void import("./zoom-binding").then(({ bindZoom }) => {
      if (!isGone && ref.current) binding.current = bindZoom(ref.current, () => latest.current);
    });
    return () => {
      isGone = true;
      binding.current?.unbind();
      binding.current = null;
    };
  }, [ref]);
}
