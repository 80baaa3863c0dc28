import { useCallback, useMemo } from "react";
import { useNavigate, useSearchParams } from "react-router";

import { readNames, spell } from "./kept";

/**
 * What the address says now. A page is drawn some moments later than its address changes, so whoever answers a key
 * or a click reads it here: what was drawn last may be two keys old, and would lose them.
 */
const addressNow = (): URLSearchParams => new URLSearchParams(window.location.search);

/** The servers selected now, also those whose selection is not drawn yet. */
export const selectedNow = (): string[] => readNames(addressNow().get("servers") ?? "");

/** The selected servers. They live in the address and are kept when the place changes. */
export function useSelection(): {
  names: string[];
  select: (names: string[]) => void;
  toggle: (name: string) => void;
} {
  const [params, change] = useAddress();
  const raw = params.get("servers") ?? "";
  const names = useMemo(() => readNames(raw), [raw]);
  const select = useCallback((next: string[]) => change({ servers: spell(next) || null }), [change]);
  const toggle = useCallback(
    (name: string) => {
      const old = selectedNow();
      select(old.includes(name) ? old.filter((n) => n !== name) : [...old, name]);
    },
    [select],
  );
  return { names, select, toggle };
}

/** The view's state in the address, and how to change some of its values; none of the others is lost. */
export function useAddress(): [URLSearchParams, (changes: Record<string, string | null>) => void] {
  const [params] = useSearchParams();
  const navigate = useNavigate();
  const change = useCallback(
    (changes: Record<string, string | null>) => {
      const next = addressNow();
      for (const [key, value] of Object.entries(changes)) {
        if (value) next.set(key, value);
        else next.delete(key);
      }
      void navigate({ search: next.toString() }, { replace: true });
    },
    [navigate],
  );
  return [params, change];
}

/** One value of the view's state that lives in the address. */
export function useParam(key: string): [string | null, (value: string | null) => void] {
  const [params, change] = useAddress();
  return [params.get(key), useCallback((value: string | null) => change({ [key]: value }), [change, key])];
}
