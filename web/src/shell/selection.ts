import { useCallback, useMemo } from "react";
import { useSearchParams } from "react-router";

/** The selected servers. They live in the address and are kept when the place changes. */
export function useSelection(): { names: string[]; select: (names: string[]) => void; toggle: (name: string) => void } {
  const [params, change] = useAddress();
  const raw = params.get("servers") ?? "";
  const names = useMemo(() => (raw ? raw.split(",") : []), [raw]);
  const select = useCallback((next: string[]) => change({ servers: next.join(",") || null }), [change]);
  const toggle = useCallback(
    (name: string) => select(names.includes(name) ? names.filter((n) => n !== name) : [...names, name]),
    [names, select],
  );
  return { names, select, toggle };
}

/** Change several values of the view's state at once: two changes one after the other would lose the first. */
export function useAddress(): [URLSearchParams, (changes: Record<string, string | null>) => void] {
  const [params, setParams] = useSearchParams();
  const change = useCallback(
    (changes: Record<string, string | null>) =>
      setParams(
        (old) => {
          const copy = new URLSearchParams(old);
          for (const [key, value] of Object.entries(changes)) {
            if (value) copy.set(key, value);
            else copy.delete(key);
          }
          return copy;
        },
        { replace: true },
      ),
    [setParams],
  );
  return [params, change];
}

/** One value of the view's state that lives in the address. */
export function useParam(key: string): [string | null, (value: string | null) => void] {
  const [params, change] = useAddress();
  return [params.get(key), useCallback((value: string | null) => change({ [key]: value }), [change, key])];
}
