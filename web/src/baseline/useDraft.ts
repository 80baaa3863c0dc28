import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useMemo, useState } from "react";

import { api, type Baseline, type DraftEffect, take } from "../api/client";
import { ALOUD } from "../api/refused";
import { effect as effectQuery } from "./queries";
import { asDocument, isSame, ofRevision, startOf, type Proposal } from "./draft";

const ASK_MS = 60;
const KEEP_MS = 250;

function useLater<T>(value: T, wait: number): T {
  const [late, setLate] = useState(value);
  useEffect(() => {
    const timer = window.setTimeout(() => setLate(value), wait);
    return () => window.clearTimeout(timer);
  }, [value, wait]);
  return late;
}

/** The draft under way, its effect, and how to change it. */
export interface DraftState {
  wanted: Proposal;
  change: (next: Partial<Proposal>) => void;
  drop: () => void;
  dirty: boolean;
  kept: boolean;
  effect: DraftEffect | undefined;
  error: Error | null;
  basis: number;
  moved: boolean;
}

/** What is being edited, its effect on the fleet, and its keeping: nothing typed is lost when the page closes. */
export function useDraft(data: Baseline): DraftState {
  const queries = useQueryClient();
  const [edited, setEdited] = useState<Proposal | null>(null);
  const wanted = useMemo(() => edited ?? startOf(data), [edited, data]);
  const dirty = !isSame(wanted, ofRevision(data.revision));
  const basis = data.draft?.basis ?? data.revision.number;
  const asked = useLater(wanted, ASK_MS);
  const kept = useLater(edited, KEEP_MS);
  const { data: effect, error } = useQuery(
    effectQuery(asDocument(asked), dirty && !isSame(asked, ofRevision(data.revision))),
  );
  const {
    mutate: keep,
    isSuccess,
    variables,
  } = useMutation({
    meta: ALOUD,
    mutationFn: ({ next, last }: { next: Proposal; last: boolean }) =>
      take(api.PUT("/api/v1/baseline/draft", { body: { ...asDocument(next), basis }, keepalive: last })),
  });
  useEffect(() => {
    if (kept) keep({ next: kept, last: false });
  }, [kept, keep]);
  // What was typed a moment before the page is left is kept too.
  useEffect(() => {
    if (!edited || edited === kept) return undefined;
    const leave = () => keep({ next: edited, last: true });
    window.addEventListener("pagehide", leave);
    return () => window.removeEventListener("pagehide", leave);
  }, [edited, kept, keep]);
  const forget = useMutation({
    meta: ALOUD,
    mutationFn: () => take(api.DELETE("/api/v1/baseline/draft")),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["baseline"] }),
  });
  return {
    wanted,
    dirty,
    error,
    basis,
    kept: !edited || (isSuccess && variables.next === edited),
    moved: dirty && basis !== data.revision.number,
    effect: dirty ? effect : undefined,
    change: (next) => setEdited({ ...wanted, ...next }),
    drop: () => {
      setEdited(ofRevision(data.revision));
      forget.mutate();
    },
  };
}
