import Box from "@mui/material/Box";
import { useEffect, useRef, useState } from "react";

import type { Run, RunServer, Span } from "../api/client";
import { clock, duration } from "../shell/format";
import { pressable } from "../shell/parts";
import { fonts, ink } from "../theme/theme";
import { endOf, isReset, remaining, type Scale, scaleOf } from "./lanes";

const ROW = 25;
const LEFT = 84;
const HEAD = 24;

/** The resets as their own signs, drawn in the middle of their time: restart a lozenge, reboot a peak, power cycle two. */
function Sign({ kind, x0, x1, done }: { kind: string; x0: number; x1: number; done: boolean }) {
  const x = (x0 + x1) / 2;
  const h = 12;
  const paint = { fill: done ? ink("ink") : ink("sheet"), stroke: ink("ink"), strokeWidth: 1.2 };
  const peak = (cx: number, w: number) => `M${cx - w},${h / 2} L${cx},${-h / 2} L${cx + w},${h / 2} Z`;
  if (kind === "controller restart")
    return <path d={`M${x - 6},0 L${x},-6 L${x + 6},0 L${x},6 Z`} {...paint} />;
  if (kind === "power cycle") return <path d={`${peak(x - 5, 6)} ${peak(x + 5, 6)}`} {...paint} />;
  return <path d={peak(x, 9)} {...paint} />;
}

function Mark({ span, scale, now, done }: { span: Span; scale: Scale; now: number; done: boolean }) {
  const [x0, x1] = [scale.x(span.start), scale.x(span.end ?? Math.max(now, span.start))];
  const width = Math.max(1, x1 - x0);
  if (isReset(span.kind)) {
    return (
      <g>
        <line
          x1={x0}
          x2={x1}
          y1={0}
          y2={0}
          stroke={ink("ink")}
          strokeWidth={1}
          strokeDasharray={done ? undefined : "2 2"}
        />
        <Sign kind={span.kind} x0={x0} x1={x1} done={done && span.end !== null} />
      </g>
    );
  }
  if (span.kind === "staging")
    return <rect x={x0} y={-1.5} width={width} height={3} fill={done ? ink("ink2") : ink("ink3")} />;
  const tint =
    span.kind === "checking"
      ? [ink("done"), ink("done2")]
      : span.kind === "failed"
        ? [ink("deep"), ink("deep2")]
        : [ink("water"), ink("water2")];
  return (
    <rect
      x={x0}
      y={-6}
      width={width}
      height={12}
      fill={done ? tint[0] : tint[1]}
      stroke={done ? "none" : tint[0]}
      strokeWidth={0.8}
      opacity={done ? 1 : 0.75}
    >
      <title>{span.label || span.kind}</title>
    </rect>
  );
}

/** What is to come in outline, what has happened filled. */
function Lane({
  lane,
  scale,
  now,
  running,
}: {
  lane: RunServer;
  scale: Scale;
  now: number;
  running: boolean;
}) {
  const plan = lane.ended ? [] : running ? remaining(lane, now) : lane.plan;
  return (
    <>
      {plan.map((s, i) => (
        <Mark key={`p${i}`} span={s} scale={scale} now={now} done={false} />
      ))}
      {lane.happened.map((s, i) => (
        <Mark key={`h${i}`} span={s} scale={scale} now={now} done />
      ))}
    </>
  );
}

interface Props {
  run: Run;
  now: number;
  picked: string | null;
  pick: (server: string) => void;
}

/** A lane per server on one time axis; the same picture before, during and after. */
export function Lanes({ run, now, picked, pick }: Props) {
  const box = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(800);
  useEffect(() => {
    if (!box.current) return undefined;
    const observer = new ResizeObserver(([entry]) => entry && setWidth(entry.contentRect.width));
    observer.observe(box.current);
    return () => observer.disconnect();
  }, []);
  const start = run.started_at ? Date.parse(run.started_at) : null;
  const at = start === null ? 0 : ((run.ended_at ? Date.parse(run.ended_at) : now) - start) / 1000;
  const scale = scaleOf(endOf(run.servers, at), width - LEFT - 8);
  const height = HEAD + run.servers.length * ROW + 6;
  const running = run.state !== "draft";
  return (
    <Box
      ref={box}
      sx={{ bgcolor: "background.paper", border: `1px solid ${ink("ink")}`, position: "relative" }}
    >
      <svg width={width} height={height} role="group" aria-label="Lanes" style={{ display: "block" }}>
        <g transform={`translate(${LEFT},0)`}>
          {scale.ticks.map((t) => (
            <g key={t.at} transform={`translate(${t.x},0)`} aria-hidden>
              <line y1={HEAD - 4} y2={height} stroke={ink("rule")} />
              <text
                y={15}
                x={t.at === 0 ? 0 : -16}
                fontSize={11.5}
                fontFamily={fonts.mono}
                fill={ink("ink2")}
              >
                {start === null ? (t.at ? duration(t.at) : "start") : clock(new Date(start + t.at * 1000))}
              </text>
            </g>
          ))}
        </g>
        {run.servers.map((lane, row) => (
          <g key={lane.server} transform={`translate(0,${HEAD + row * ROW})`}>
            <rect width={width} height={ROW} fill={picked === lane.server ? ink("water2") : "transparent"} />
            <line x2={width} y1={ROW} y2={ROW} stroke={ink("rule")} />
            <text
              x={10}
              y={16.5}
              fontSize={12.5}
              fontWeight={600}
              fontFamily={fonts.title}
              fill={lane.ended === "failed" ? ink("deep") : ink("ink")}
            >
              {lane.server}
            </text>
            <g transform={`translate(${LEFT},${ROW / 2})`}>
              <Lane lane={lane} scale={scale} now={at} running={running} />
            </g>
            <rect
              {...pressable(() => pick(lane.server))}
              width={width}
              height={ROW}
              fill="transparent"
              aria-pressed={picked === lane.server}
              aria-label={`${lane.server}: ${lane.ended || lane.state}${lane.detail ? `, ${lane.detail}` : ""}`}
            />
          </g>
        ))}
        {run.state === "running" && (
          <g transform={`translate(${LEFT + scale.x(at)},0)`} aria-hidden>
            <line y1={HEAD - 6} y2={height} stroke={ink("deep")} strokeWidth={1.6} />
          </g>
        )}
      </svg>
    </Box>
  );
}

const KEY: [string, string][] = [
  ["staging", "staging"],
  ["writing", "writing"],
  ["controller restart", "controller restart"],
  ["server reboot", "server reboot"],
  ["power cycle", "power cycle"],
  ["checking", "checking after"],
];

/** What the signs mean. */
export function LanesKey() {
  const scale: Scale = { x: (s) => s, ticks: [], end: 30 };
  return (
    <Box
      sx={{
        display: "flex",
        flexWrap: "wrap",
        columnGap: 2.25,
        mt: 1,
        fontSize: 12.5,
        color: "text.secondary",
      }}
    >
      {KEY.map(([kind, words]) => (
        <Box key={kind} sx={{ display: "flex", gap: 0.75, alignItems: "center" }}>
          <svg width={26} height={16} aria-hidden>
            <g transform="translate(0,8)">
              <Mark span={{ kind, start: 2, end: 24, label: "" }} scale={scale} now={30} done />
            </g>
          </svg>
          {words}
        </Box>
      ))}
      <Box>outlined: still to come</Box>
    </Box>
  );
}
