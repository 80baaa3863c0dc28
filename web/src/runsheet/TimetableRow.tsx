import Box from "@mui/material/Box";
import Typography from "@mui/material/Typography";
import { memo } from "react";

import type { RunServer } from "../api/client";
import { ink } from "../theme/theme";
import { Text } from "../ui/layout";
import { allSpans, type Band, densityOf, peakOf, tellBand } from "./bands";
import { DensityMarks } from "./DensityMarks";
import { LaneMarks } from "./LaneMarks";
import type { Scale } from "./timescale";

/** The height of a lane. */
export const LANE = 25;
/** The height of a band. */
export const BAND = 38;
/** What is left free behind the time axis. */
export const RIGHT = 8;
/** Pixels of a piece in a density. */
const PIECE = 3;

interface RowProps {
  scale: Scale;
  left: number;
  width: number;
  at: number;
  isRunning: boolean;
}

/** One server: its name, and its signs on the time axis. */
export const LaneRow = memo(function LaneRow({
  lane,
  indent,
  scale,
  left,
  width,
  at,
  isRunning,
}: RowProps & { lane: RunServer; indent: boolean }) {
  return (
    <>
      <Text
        pl={indent ? 2.5 : 1.25}
        tone={lane.ended === "failed" || lane.question ? "deep" : "plain"}
        style={{ width: left, flex: "none", lineHeight: `${LANE}px` }}
      >
        <Typography variant="laneName">{lane.server}</Typography>
      </Text>
      <svg width={width + RIGHT} height={LANE - 1} aria-hidden style={{ flex: "none", overflow: "hidden" }}>
        <Lines scale={scale} height={LANE} />
        <g transform={`translate(0,${LANE / 2})`}>
          <LaneMarks lane={lane} scale={scale} now={at} isRunning={isRunning} />
        </g>
      </svg>
    </>
  );
});

/** Round times as thin lines; where no window is open the sheet is closed, and its edges are drawn. */
function Lines({ scale, height }: { scale: Scale; height: number }) {
  return (
    <>
      {scale.closed.map((gap) => (
        <rect
          key={gap.from}
          x={gap.from}
          width={gap.to - gap.from}
          height={height}
          fill={ink("rule")}
          opacity={0.55}
        />
      ))}
      {scale.ticks.map((t) => (
        <line key={t.at} x1={t.x} x2={t.x} y2={height} stroke={ink("rule")} />
      ))}
      {scale.closed
        .flatMap((gap) => [gap.from, gap.to])
        .filter((x) => x > 0 && x < scale.x(scale.to))
        .map((x) => (
          <line key={`edge ${x}`} x1={x} x2={x} y2={height} stroke={ink("water")} strokeWidth={2} />
        ))}
    </>
  );
}

const ROOM = BAND - 9;

const needsAPerson = (lane: RunServer): boolean =>
  lane.ended === "failed" || Boolean(lane.question && !lane.ended);

function BandName({ band, left }: { band: Band; left: number }) {
  const isFine = !band.lanes.some(needsAPerson);
  return (
    <Box sx={{ width: left, flex: "none", pl: 0.75, py: 0.5, lineHeight: 1.2, overflow: "hidden" }}>
      <Typography variant="laneName" component="div" noWrap className="fold" title={band.name}>
        {band.name}
      </Typography>{" "}
      <Typography variant="note" component="div" noWrap color={isFine ? "text.secondary" : "error"}>
        {tellBand(band.lanes)[0]}
      </Typography>
    </Box>
  );
}

/** A band: its name, how it stands, and while it is folded how many of it are busy when. */
export const BandRow = memo(function BandRow({
  band,
  isOpen,
  scale,
  left,
  width,
  at,
  isRunning,
}: RowProps & { band: Band; isOpen: boolean }) {
  const { done, ahead } = allSpans(band.lanes, at, isRunning);
  const pieces = Math.ceil(width / PIECE);
  const [was, comes] = [densityOf(done, scale, pieces, at), densityOf(ahead, scale, pieces, at)];
  const peak = peakOf(was, comes);
  return (
    <>
      <BandName band={band} left={left} />
      <svg width={width + RIGHT} height={BAND - 1} aria-hidden style={{ flex: "none" }}>
        <Lines scale={scale} height={BAND} />
        {!isOpen && (
          <g transform={`translate(0,${BAND - 2 - ROOM})`}>
            <title>{`at most ${Math.ceil(peak - 0.01)} at once`}</title>
            <DensityMarks done={was} ahead={comes} peak={peak} width={width} height={ROOM} />
          </g>
        )}
      </svg>
    </>
  );
});
