import Tooltip from "@mui/material/Tooltip";
import Box from "@mui/material/Box";

import type { Forecast } from "../api/client";
import { duration } from "../shell/format";
import { ink } from "../theme/theme";
import { Text } from "../ui/layout";
import type { Scale } from "./timescale";
import { RIGHT } from "./TimetableRow";

const HEIGHT = 20;

interface Props {
  tail: Forecast["end"];
  scale: Scale;
  left: number;
  width: number;
}

/** When all will be done, drawn on the time axis: up to an even chance, on to nine in ten, and the thin end. */
export function Tail({ tail, scale, left, width }: Props) {
  const at = [tail.p50, tail.p90, tail.p99].map((seconds) => Math.min(Math.max(scale.x(seconds), 0), width));
  const [even = 0, nine = 0, most = 0] = at;
  const told = `All done with even chance after ${duration(tail.p50)}, nine in ten after ${duration(tail.p90)}, 99 in 100 after ${duration(tail.p99)}`;
  return (
    <Tooltip title={told} describeChild>
      <Box tabIndex={0} role="img" aria-label={told} sx={{ display: "flex", height: HEIGHT }}>
        <Text pl={1.25} size="note" tone="quiet" style={{ width: left, flex: "none" }}>
          all done
        </Text>
        <svg width={width + RIGHT} height={HEIGHT} aria-hidden>
          <line x1={even} x2={most} y1={10} y2={10} stroke={ink("ink2")} strokeWidth={1.5} />
          <rect x={even} y={6} width={Math.max(1, nine - even)} height={8} fill={ink("ink2")} />
          <line x1={even} x2={even} y1={3} y2={17} stroke={ink("ink")} strokeWidth={2} />
          <line x1={nine} x2={nine} y1={3} y2={17} stroke={ink("ink")} strokeWidth={2} />
          <line x1={most} x2={most} y1={5} y2={15} stroke={ink("ink2")} />
        </svg>
      </Box>
    </Tooltip>
  );
}
