import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import ToggleButton from "@mui/material/ToggleButton";
import ToggleButtonGroup from "@mui/material/ToggleButtonGroup";
import { useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";

import type { Run } from "../api/client";
import { usePrinting } from "../shell/printing";
import { useParam } from "../shell/selection";
import { useWidth } from "../shell/width";
import { Axis } from "./Axis";
import { type Band, bandsOf, FEW, type Grouping, groupingOf, GROUPINGS, rowsOf } from "./bands";
import { PRINTED_WIDTH, PrintedLanes } from "./PrintedLanes";
import { forecast as forecastQuery } from "./queries";
import { Overview } from "./Overview";
import { Tail } from "./Tail";
import { endOf, scaleOf, type Stretch, wholeOf } from "./timescale";
import { RIGHT } from "./TimetableRow";
import { TimetableRows } from "./TimetableRows";
import { type Stretched, useStretch } from "./useStretch";
import { useMovedLane } from "./useMovedLane";
import { Block, Row, Text } from "../ui/layout";

const secondOfDay = (time: Date): number =>
  time.getHours() * 3600 + time.getMinutes() * 60 + time.getSeconds();

/** The windows of a sheet in seconds from where its lanes begin; null: at any time. */
const windowsOf = (windows: Run["windows"], start: number | null): Stretch[] | null =>
  windows.length && start !== null
    ? windows.map((w) => ({
        from: (Date.parse(w.start) - start) / 1000,
        to: (Date.parse(w.end) - start) / 1000,
      }))
    : null;

interface Props {
  run: Run;
  now: number;
  picked: string | null;
  pick: (server: string) => void;
}

/** A lane per server on one time axis, in bands where there are many; the same picture before, during and after. */
export function Timetable({ run, now, picked, pick }: Props) {
  const { ref: box, width: outer } = useWidth();
  const start = run.lanes_from ? Date.parse(run.lanes_from) : null;
  const at =
    start === null || !run.started_at ? 0 : ((run.ended_at ? Date.parse(run.ended_at) : now) - start) / 1000;
  const begun = start === null ? 0 : secondOfDay(new Date(start));
  const { data: expected } = useQuery(forecastQuery(run));
  const tail = run.state === "ended" ? undefined : expected?.end;
  const last = run.windows.at(-1);
  const closes = last && start !== null ? (Date.parse(last.end) - start) / 1000 : 0;
  const whole = wholeOf(Math.max(endOf(run.servers, at), tail?.p99 ?? 0, closes));
  const time = useStretch(whole, at);
  const left = outer < 600 ? 84 : 108;
  const width = Math.max(100, outer - left - RIGHT);
  const { from, to } = time.shown;
  const windows = useMemo(() => windowsOf(run.windows, start), [run.windows, start]);
  const scale = useMemo(
    () => scaleOf({ from, to }, width, begun, windows),
    [from, to, width, begun, windows],
  );
  const [said, band] = useParam("band");
  const by = groupingOf(said, run.servers.length, run.waves.length > 0);
  const bands = useMemo(() => bandsOf(run.servers, by), [run.servers, by]);
  const [turned, turn] = useState<ReadonlyMap<string, boolean>>(new Map());
  // Open where someone opened it, or where the lane is that is looked at; until someone folds it.
  const isOpen = ({ name, lanes }: Band) => turned.get(name) ?? lanes.some((lane) => lane.server === picked);
  const shown = new Set(bands.filter(isOpen).map(({ name }) => name));
  const toggle = (name: string) => turn(new Map([...turned, [name, !shown.has(name)]]));
  const rows = rowsOf(run.servers, bands, shown);
  const isRunning = run.state !== "draft";
  const moved = useMovedLane(run, start ?? now);
  const isPrinting = usePrinting();
  if (isPrinting)
    return (
      <PrintedLanes
        {...{ run, start, at, isRunning }}
        scale={scaleOf(whole, PRINTED_WIDTH, begun, windows)}
      />
    );
  return (
    <Box>
      <Controls run={run} by={by} band={band} time={time} isRunning={run.state === "running"} />
      {run.state === "draft" && (
        // Its line is always there: a picture that moves under the pointer can't be dragged.
        <Text role="status" className="no-print" size="note" tone={moved.told ? "plain" : "quiet"} mb={0.5}>
          {moved.told || "Drag a lane to say when it begins, or Alt with ← → on it."}
        </Text>
      )}
      <Block ref={box} framed="plain" ground="sheet" style={{ overflow: "hidden" }}>
        <Axis scale={scale} start={start} left={left} width={width} />
        {tail && <Tail {...{ tail, scale, left, width }} />}
        <TimetableRows
          {...{ run, rows, scale, time, whole, left, width, at, picked, pick, toggle, isRunning }}
          shift={run.state === "draft" ? moved.shift : undefined}
          key={by}
        />
        {run.servers.length > FEW && (
          <Overview
            lanes={run.servers}
            time={time}
            whole={whole}
            left={left}
            width={width}
            at={at}
            isRunning={isRunning}
          />
        )}
      </Block>
    </Box>
  );
}

const WORDS: Record<Grouping, string> = {
  none: "single",
  wave: "by wave",
  group: "by group",
  rack: "by rack",
};

/** How lanes are banded, and which stretch of time is shown. */
function Controls({
  run,
  by,
  band,
  time,
  isRunning,
}: {
  run: Run;
  by: Grouping;
  band: (by: string | null) => void;
  time: Stretched;
  isRunning: boolean;
}) {
  return (
    <Row className="no-print" wrap gap={1.5} align="center" mb={0.75}>
      {run.servers.length > 1 && (
        <ToggleButtonGroup
          exclusive
          value={by}
          onChange={(_, chosen: Grouping | null) => chosen && band(chosen)}
          aria-label="Lanes"
        >
          {GROUPINGS.filter((g) => g !== "wave" || run.waves.length > 0).map((g) => (
            <ToggleButton key={g} value={g}>
              {WORDS[g]}
            </ToggleButton>
          ))}
        </ToggleButtonGroup>
      )}
      <Row ml="auto" gap={0.5}>
        <Button variant="text" onClick={() => time.turn(1.5)}>
          Closer
        </Button>
        <Button variant="text" onClick={() => time.turn(1 / 1.5)}>
          Further
        </Button>
        {isRunning && (
          <Button variant="text" aria-pressed={time.follows} onClick={time.toNow}>
            Follow now
          </Button>
        )}
        <Button variant="text" onClick={time.all}>
          Whole run
        </Button>
      </Row>
    </Row>
  );
}
