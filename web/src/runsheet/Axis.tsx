import { clock, duration } from "../shell/format";
import { fonts, ink } from "../theme/theme";
import type { Scale } from "./timescale";
import { RIGHT } from "./TimetableRow";

const AXIS = 24;

/** The times above the lanes: of the clock once the run began, else since its start. */
export function Axis({
  scale,
  start,
  left,
  width,
}: {
  scale: Scale;
  start: number | null;
  left: number;
  width: number;
}) {
  return (
    <svg width={left + width + RIGHT} height={AXIS} style={{ display: "block" }} aria-hidden>
      <line x2={left + width + RIGHT} y1={AXIS - 0.5} y2={AXIS - 0.5} stroke={ink("ink")} />
      {scale.ticks.map((t) => (
        <g key={t.at} transform={`translate(${left + t.x},0)`}>
          <line y1={AXIS - 5} y2={AXIS} stroke={ink("ink")} />
          <text
            y={15}
            textAnchor={t.x < 20 ? "start" : t.x > width - 36 ? "end" : "middle"}
            fontSize={11.5}
            fontFamily={fonts.mono}
            fill={ink("ink2")}
          >
            {start === null
              ? t.at
                ? duration(t.at).replace(" 0 min", "")
                : "start"
              : clock(new Date(start + t.at * 1000))}
          </text>
        </g>
      ))}
    </svg>
  );
}
