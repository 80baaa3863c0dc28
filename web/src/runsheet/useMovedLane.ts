// A lane moved along the time axis: what it would mean while it is moved, and the wish once it is let go of.
import type { Run, RunServer, SheetChange } from "../api/client";
import { clock } from "../shell/format";
import { tellTried } from "./tried";
import { useSheetChange, useTrial } from "./useSheet";

const MINUTE_MS = 60_000;

/** The wish for a lane that is moved by so many seconds from where it lies; to the whole minute. */
export function wishOf(
  lane: RunServer,
  start: number,
  seconds: number,
): { at: Date; change: SheetChange } | null {
  const begins = lane.plan[0]?.start;
  if (begins === undefined) return null;
  const at = new Date(Math.round((start + (begins + seconds) * 1000) / MINUTE_MS) * MINUTE_MS);
  const not_before = at.getTime() <= start ? null : at.toISOString();
  return { at, change: { wishes: [{ server: lane.server, not_before, pinned: not_before !== null }] } };
}

/** Told while a lane is moved; kept when it is let go of; refused with the rule where it can't be. */
export function useMovedLane(run: Run, start: number) {
  const change = useSheetChange(run);
  const trial = useTrial(run);
  const shift = (lane: RunServer, seconds: number | null, isDone: boolean) => {
    const wish = seconds === null ? null : wishOf(lane, start, seconds);
    if (wish && isDone) change.mutate(wish.change, { onSuccess: () => trial.ask(null) });
    else trial.ask(wish && wish.change);
  };
  const { told } = trial;
  const [wish] = told?.trial.wishes ?? [];
  const whom = wish
    ? `${wish.server} ${wish.not_before ? `at ${clock(new Date(wish.not_before))}` : "from the start"}: `
    : "";
  const tried = told?.tried ? whom + tellTried(told.tried) : (told?.error?.message ?? "");
  return { shift, told: change.error?.message ?? tried };
}
