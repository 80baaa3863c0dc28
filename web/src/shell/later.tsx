import { type ComponentType, lazy, Suspense } from "react";

/**
 * A part of the interface that is fetched when it is first drawn, or when the browser has nothing else to do: it
 * does not stand in the way of what is seen first.
 */
export function later<P extends object>(fetch: () => Promise<ComponentType<P>>): ComponentType<P> {
  const load = async () => ({ default: await fetch() });
  const Part = lazy(load);
  // Safari knows no idle callback; there it is fetched when it is drawn.
  if ("requestIdleCallback" in window) window.requestIdleCallback(() => void load(), { timeout: 4000 });
  return function Later(props: P) {
    return (
      <Suspense fallback={null}>
        <Part {...props} />
      </Suspense>
    );
  };
}
