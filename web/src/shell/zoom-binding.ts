// d3-zoom on an element. It is fetched after the drawing is seen: nobody turns a wheel before.
import { select } from "d3-selection";
import { zoom, zoomIdentity } from "d3-zoom";

import type { View, Zoomed } from "./zoom";

const PER_PIXEL = 0.002;
const PER_LINE = 0.05;
/** A pinch on a trackpad comes as a wheel with Ctrl, in small steps. */
const PINCH = 8;
const PINCH_STEP = 40;

const turned = (event: WheelEvent): number => {
  const pinched = event.ctrlKey && event.deltaMode === 0 && Math.abs(event.deltaY) < PINCH_STEP;
  return -event.deltaY * (event.deltaMode === 1 ? PER_LINE : PER_PIXEL) * (pinched ? PINCH : 1);
};

/** A view whose gestures are bound. */
export interface Binding {
  /** Where the next gesture begins: what keys, buttons and the clock have moved meanwhile counts too. */
  follow: (zoomed: Zoomed) => void;
  unbind: () => void;
}

/** Bind wheel, pinch and drag on an element; ``latest`` says what holds when a gesture is made. */
export function bindZoom(node: HTMLElement, latest: () => Zoomed): Binding {
  const behaviour = zoom<HTMLElement, unknown>()
    .filter((event: MouseEvent | TouchEvent | WheelEvent) => latest().takes(event))
    .wheelDelta(turned)
    .on("zoom", ({ transform: { k, x, y }, sourceEvent }: { transform: View; sourceEvent: unknown }) => {
      if (sourceEvent) latest().change({ k, x, y });
    });
  const follow = ({ extent, scales, view: { k, x, y } }: Zoomed) => {
    behaviour.extent(extent).scaleExtent(scales);
    Object.assign(node, { __zoom: zoomIdentity.translate(x, y).scale(k) });
  };
  follow(latest());
  const held = select<HTMLElement, unknown>(node).call(behaviour).on("dblclick.zoom", null);
  return { follow, unbind: () => void held.on(".zoom", null) };
}
