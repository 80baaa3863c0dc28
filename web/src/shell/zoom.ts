// Closer and further on a drawn view, by wheel, pinch and drag; keys and buttons change the view themselves.
import { select } from "d3-selection";
import { zoom, type ZoomBehavior, zoomIdentity } from "d3-zoom";
import { type RefObject, useEffect, useRef } from "react";

/** How a drawing lies on the page: a point p of the drawing stands at k · p + (x, y). */
export interface View {
  k: number;
  x: number;
  y: number;
}

interface Zoomed {
  view: View;
  change: (view: View) => void;
  /** The part of the page that shows the drawing: left, top, right, bottom. */
  extent: [[number, number], [number, number]];
  /** How close and how far one can go. */
  scales: [number, number];
  /** Which presses, touches and turns of the wheel are meant for the view; all others are left alone. */
  takes: (event: MouseEvent | TouchEvent | WheelEvent) => boolean;
}

const PER_PIXEL = 0.002;
const PER_LINE = 0.05;
/** A pinch on a trackpad comes as a wheel with Ctrl, in small steps. */
const PINCH = 8;
const PINCH_STEP = 40;

const turned = (event: WheelEvent): number => {
  const pinched = event.ctrlKey && event.deltaMode === 0 && Math.abs(event.deltaY) < PINCH_STEP;
  return -event.deltaY * (event.deltaMode === 1 ? PER_LINE : PER_PIXEL) * (pinched ? PINCH : 1);
};

/** Bind wheel, pinch and drag on an element to its view. What is allowed is up to ``change``, which may move it back. */
export function useZoom(ref: RefObject<HTMLElement | null>, zoomed: Zoomed): void {
  const latest = useRef(zoomed);
  const behaviour = useRef<ZoomBehavior<HTMLElement, unknown>>(null);
  useEffect(() => {
    latest.current = zoomed;
    behaviour.current?.extent(zoomed.extent).scaleExtent(zoomed.scales);
    const { k, x, y } = zoomed.view;
    // Where the next gesture begins: what keys, buttons and the clock have moved meanwhile counts too.
    if (ref.current) Object.assign(ref.current, { __zoom: zoomIdentity.translate(x, y).scale(k) });
  });
  useEffect(() => {
    const node = ref.current;
    if (!node) return undefined;
    behaviour.current = zoom<HTMLElement, unknown>()
      .extent(latest.current.extent)
      .scaleExtent(latest.current.scales)
      .filter((event: MouseEvent | TouchEvent | WheelEvent) => latest.current.takes(event))
      .wheelDelta(turned)
      .on("zoom", ({ transform, sourceEvent }: { transform: View; sourceEvent: unknown }) => {
        if (sourceEvent) latest.current.change({ k: transform.k, x: transform.x, y: transform.y });
      });
    const held = select<HTMLElement, unknown>(node).call(behaviour.current).on("dblclick.zoom", null);
    return () => void held.on(".zoom", null);
  }, [ref]);
}
