import { useSyncExternalStore } from "react";
import { flushSync } from "react-dom";

let isPrinting = false;

function subscribe(changed: () => void): () => void {
  // The paper is laid out as soon as the event is over: what changes has to be there by then.
  const turn = (to: boolean) => () => {
    isPrinting = to;
    flushSync(changed);
  };
  const [before, after] = [turn(true), turn(false)];
  window.addEventListener("beforeprint", before);
  window.addEventListener("afterprint", after);
  return () => {
    window.removeEventListener("beforeprint", before);
    window.removeEventListener("afterprint", after);
  };
}

/** Whether the page is being printed: what is drawn only where it is in sight has to be drawn whole. */
export const usePrinting = (): boolean => useSyncExternalStore(subscribe, () => isPrinting);
