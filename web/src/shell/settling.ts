import { useEffect, useRef, useState } from "react";

import { useParam } from "./selection";

/** An address that changes with every step of a gesture is too much for a browser. */
const SETTLED_MS = 200;

interface Settling<T> {
  /** What the address says. */
  said: string | null;
  /** Where a gesture is that has not come to rest; null when none is made. */
  moving: T | null;
  move: (value: T, spelled: string | null) => void;
  settle: (spelled: string | null) => void;
}

/** A value of the view's state that gestures change: drawn at once, said in the address when they come to rest. */
export function useSettling<T>(key: string): Settling<T> {
  const [said, say] = useParam(key);
  const [moving, setMoving] = useState<T | null>(null);
  const timer = useRef<number>(undefined);
  useEffect(() => () => window.clearTimeout(timer.current), []);
  const settle = (spelled: string | null) => {
    window.clearTimeout(timer.current);
    setMoving(null);
    say(spelled);
  };
  const move = (value: T, spelled: string | null) => {
    setMoving(value);
    window.clearTimeout(timer.current);
    timer.current = window.setTimeout(() => settle(spelled), SETTLED_MS);
  };
  return { said, moving, move, settle };
}
