import type { RefObject } from "react";

import { useSettling } from "../shell/settling";
import { useZoom } from "../shell/zoom";
import { CLOSEST, closer, readStretch, spellStretch, type Stretch, within } from "./timescale";

const STEP = 1.5;
const PAN = 0.25;

/** The stretch of time in sight, and how to change it. */
export interface Stretched {
  shown: Stretch;
  follows: boolean;
  show: (stretch: Stretch) => void;
  all: () => void;
  toNow: () => void;
  turn: (factor: number) => void;
  pan: (share: number) => void;
}

/** The stretch of time in sight. It lives in the address, but for gestures, which end there. */
export function useStretch(whole: Stretch, now: number): Stretched {
  const { said, moving, move, settle } = useSettling<Stretch>("time");
  const shown = moving ?? readStretch(said, now, whole);
  const follows = moving === null && Boolean(said?.startsWith("now"));
  const span = shown.to - shown.from;
  // Closer to now, where it is in sight: that is what one wants to see.
  const pivot = now > shown.from && now < shown.to ? now : (shown.from + shown.to) / 2;
  const show = (stretch: Stretch) => {
    const held = within(stretch, whole);
    move(held, spellStretch(held, whole));
  };
  const follow = (seconds: number) => settle(`now-${Math.round(Math.max(CLOSEST, seconds))}`);
  return {
    shown,
    follows,
    show,
    all: () => settle(null),
    toNow: () => follow(Math.min(span, (whole.to - whole.from) / 2)),
    turn: (factor) =>
      follows && span / factor < whole.to - whole.from
        ? follow(span / factor)
        : show(closer(shown, factor, pivot, whole)),
    pan: (share) => show({ from: shown.from + span * share, to: shown.to + span * share }),
  };
}

/** Wheel with Ctrl, pinch and sideways drag on the plot, which begins ``left`` pixels from the element's edge. */
export function useStretchGestures(
  ref: RefObject<HTMLElement | null>,
  time: Stretched,
  whole: Stretch,
  { left, width }: { left: number; width: number },
): void {
  const long = whole.to - whole.from;
  const span = time.shown.to - time.shown.from;
  const k = long / span;
  useZoom(ref, {
    view: { k, x: left - k * (left + (time.shown.from / long) * width), y: 0 },
    change: (view) => {
      const from = (((left - view.x) / view.k - left) / width) * long;
      time.show({ from, to: from + long / view.k });
    },
    extent: [
      [left, 0],
      [left + width, 1],
    ],
    scales: [1, Math.max(1, long / CLOSEST)],
    takes: (event) => {
      if (event instanceof WheelEvent) return event.ctrlKey || event.metaKey;
      if ("touches" in event) return event.touches.length > 1;
      return event.button === 0 && span < long * 0.999;
    },
  });
}

/** The keys of the time axis; whether the key was one of them. */
export function stretchKey(time: Stretched, event: React.KeyboardEvent): boolean {
  if (event.ctrlKey || event.metaKey || event.altKey) return false;
  if (event.key === "+" || event.key === "=") time.turn(STEP);
  else if (event.key === "-") time.turn(1 / STEP);
  else if (event.key === "0") time.all();
  else if (event.key === "n") time.toNow();
  else if (event.shiftKey && event.key === "ArrowRight") time.pan(PAN);
  else if (event.shiftKey && event.key === "ArrowLeft") time.pan(-PAN);
  else return false;
  return true;
}
