// Changing a draft, and trying what a change would mean before it is made.
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useCallback, useEffect, useRef, useState } from "react";

import { api, type Run, type SheetChange, type SheetTrial, take, type Tried } from "../api/client";

/** Change the sheet; what comes back is the sheet as it stands then. */
export function useSheetChange(run: Run) {
  const queries = useQueryClient();
  // A question under way was asked before the change: its answer would put the old sheet back on the page.
  const forget = () => queries.cancelQueries({ queryKey: ["run", run.id] });
  return useMutation({
    mutationFn: (body: SheetChange) =>
      take(api.PATCH("/api/v1/runs/{id}/sheet", { params: { path: { id: run.id } }, body })),
    onMutate: forget,
    onSuccess: async (fresh) => {
      await forget();
      queries.setQueryData(["run", run.id], fresh);
      for (const key of ["forecast", "checks", "sheet-revisions"])
        void queries.invalidateQueries({ queryKey: [key, run.id] });
    },
  });
}

const SETTLE_MS = 60;
/** Where there are hundreds of servers, the chances are asked for once a person stays with what is tried. */
const STAY_MS = 400;

/** What a change would mean, asked a moment after it was last named; only the latest answer counts. */
export function useTrial(run: Run) {
  const [told, tell] = useState<{ trial: SheetTrial; tried: Tried | null; error: Error | null } | null>(null);
  const latest = useRef(0);
  const timer = useRef<number>(undefined);
  const ask = useCallback(
    (trial: SheetTrial | null) => {
      window.clearTimeout(timer.current);
      const mine = ++latest.current;
      if (trial === null) return tell(null);
      const later = (body: SheetTrial, ms: number) => {
        timer.current = window.setTimeout(() => {
          const answer = (tried: Tried | null, error: Error | null) => {
            if (mine !== latest.current) return;
            tell({ trial, tried, error });
            if (tried && !tried.refused && !tried.sure_end && !body.surely)
              later({ ...trial, surely: true }, STAY_MS);
          };
          take(api.POST("/api/v1/runs/{id}/sheet/try", { params: { path: { id: run.id } }, body })).then(
            (tried) => answer(tried, null),
            (error: Error) => answer(null, error),
          );
        }, ms);
      };
      later(trial, SETTLE_MS);
    },
    [run.id],
  );
  useEffect(() => () => window.clearTimeout(timer.current), []);
  return { ask, told };
}
