import Box from "@mui/material/Box";
import { styled } from "@mui/material/styles";
import { memo } from "react";

import type { RunServer, Span } from "../api/client";
import { fonts, ink } from "../theme/theme";
import { countIn, layMarks, type Mark, tellMark } from "./marks";
import { isMoving, isReset, type Scale, spansOf } from "./timescale";
import { Row } from "../ui/layout";

const HALF = 6;
const TINT: Record<string, [string, string]> = {
  checking: [ink("done"), ink("done2")],
  failed: [ink("deep"), ink("deep2")],
  healing: [ink("done2"), ink("sheet")],
  "at the server": [ink("pending2"), ink("sheet")],
};

/** The resets as their own signs, drawn in the middle of their time: restart a lozenge, reboot a peak, power cycle two. */
function Sign({ kind, x, done }: { kind: string; x: number; done: boolean }) {
  const paint = { fill: done ? ink("ink") : ink("sheet"), stroke: ink("ink"), strokeWidth: 1.2 };
  const peak = (cx: number, w: number) => `M${cx - w},${HALF} L${cx},${-HALF} L${cx + w},${HALF} Z`;
  if (kind === "controller restart")
    return <path d={`M${x - 6},0 L${x},-6 L${x + 6},0 L${x},6 Z`} {...paint} />;
  if (kind === "moving off") return <path d={`M${x + 4},-5 L${x - 5},0 L${x + 4},5 Z`} {...paint} />;
  if (kind === "taking back") return <path d={`M${x - 4},-5 L${x + 5},0 L${x - 4},5 Z`} {...paint} />;
  if (kind === "power cycle") return <path d={`${peak(x - 5, 6)} ${peak(x + 5, 6)}`} {...paint} />;
  return <path d={peak(x, 9)} {...paint} />;
}

function Reset({ mark, span }: { mark: Mark; span: Span }) {
  const dashes = mark.done ? undefined : "2 2";
  return (
    <>
      <line x1={mark.left} x2={mark.right} stroke={ink("ink")} strokeDasharray={dashes} />
      <Sign kind={span.kind} x={(mark.left + mark.right) / 2} done={mark.done && span.end !== null} />
    </>
  );
}

function Bar({ mark, span }: { mark: Mark; span: Span }) {
  const [x, width] = [mark.left, Math.max(1, mark.right - mark.left)];
  if (span.kind === "staging")
    return <rect x={x} y={-1.5} width={width} height={3} fill={mark.done ? ink("ink2") : ink("ink3")} />;
  const [solid, light] = TINT[span.kind] ?? [ink("water"), ink("water2")];
  return (
    <rect
      x={x}
      y={-HALF}
      width={width}
      height={2 * HALF}
      fill={mark.done ? solid : light}
      stroke={mark.done ? "none" : solid}
      strokeWidth={0.8}
      opacity={mark.done ? 1 : span.ahead ? 0.4 : 0.75}
    />
  );
}

/** The only reset among several: its sign tells more than a number. */
function onlyReset(mark: Mark): Span | null {
  const resets = mark.spans.filter((span) => isReset(span.kind));
  const [first] = resets;
  return first && resets.length === 1 && !mark.spans.some((span) => span.kind === "failed") ? first : null;
}

/** Drawn, not written: a number that is text would be part of the lane's name to whoever speaks to the page. */
const Numeral = styled("div")({
  font: `650 11px/${2 * HALF + 2}px ${fonts.mono}`,
  textAlign: "center",
  "&::before": { content: "attr(data-number)" },
});

/** Several that are too close to be told apart: their number. */
function Several({ mark }: { mark: Mark }) {
  const hasFailed = mark.spans.some((s) => s.kind === "failed");
  const colour = hasFailed ? ink("deep") : ink("ink");
  return (
    <>
      <rect
        x={mark.left + 0.5}
        y={-HALF - 1}
        width={mark.right - mark.left - 1}
        height={2 * HALF + 2}
        rx={3}
        fill={mark.done ? colour : ink("sheet")}
        stroke={colour}
        strokeDasharray={mark.done ? undefined : "3 2"}
      />
      <foreignObject
        x={mark.left}
        y={-HALF - 1}
        width={mark.right - mark.left}
        height={2 * HALF + 2}
        color={mark.done ? ink("sheet") : colour}
      >
        <Numeral data-number={countIn(mark)} />
      </foreignObject>
    </>
  );
}

function Drawn({ mark }: { mark: Mark }) {
  const [first] = mark.spans;
  if (!first) return null;
  const reset = mark.spans.length === 1 && isMoving(first.kind) ? first : onlyReset(mark);
  return (
    <g>
      <title>{tellMark(mark)}</title>
      {reset ? (
        <Reset mark={mark} span={reset} />
      ) : mark.spans.length > 1 ? (
        <Several mark={mark} />
      ) : (
        <Bar mark={mark} span={first} />
      )}
    </g>
  );
}

/** A gap: a faint line, and a room around it that a pointer finds; what is waited for stands in its label too. */
function Gap({ wait, scale }: { wait: RunServer["waits"][number]; scale: Scale }) {
  const [from, to] = [Math.max(0, scale.x(wait.start)), scale.x(wait.end)];
  if (to - from < 4) return null;
  return (
    <g>
      <title>{`waits ${wait.why}`}</title>
      <rect x={from} y={-HALF - 3} width={to - from} height={2 * HALF + 6} fill="transparent" />
      <line x1={from} x2={to - 2} stroke={ink("ink3")} strokeDasharray="1 4" />
    </g>
  );
}

interface Props {
  lane: RunServer;
  scale: Scale;
  now: number;
  isRunning: boolean;
}

/** What is to come in outline, what has happened filled. */
export const LaneMarks = memo(function LaneMarks({ lane, scale, now, isRunning }: Props) {
  const { done, ahead } = spansOf(lane, now, isRunning);
  return (
    <>
      {!isRunning && lane.waits.map((wait) => <Gap key={wait.start} wait={wait} scale={scale} />)}
      {layMarks(done, ahead, scale, now).map((mark, i) => (
        <Drawn key={i} mark={mark} />
      ))}
    </>
  );
});

const KEY: [string, string][] = [
  ["staging", "staging"],
  ["writing", "writing"],
  ["controller restart", "controller restart"],
  ["server reboot", "server reboot"],
  ["power cycle", "power cycle"],
  ["checking", "checking after"],
  ["moving off", "its work moved off"],
  ["taking back", "taken back"],
  ["at the server", "somebody at the server"],
];
const SAMPLE = { left: 2, right: 24, done: true };
const sample = (kind: string): Span => ({ kind, start: 0, end: 1, label: "" });

/** What the signs mean. */
export function SignsKey() {
  return (
    <Row wrap gap={2.25} mt={1} size="note" style={{ rowGap: 0 }}>
      {KEY.map(([kind, words]) => (
        <Told key={kind} mark={{ ...SAMPLE, spans: [sample(kind)] }} words={words} />
      ))}
      <Told
        mark={{ ...SAMPLE, spans: [sample("power cycle"), sample("power cycle")] }}
        words="so many, too close to be drawn"
      />
      <Box>outlined: still to come</Box>
    </Row>
  );
}

function Told({ mark, words }: { mark: Mark; words: string }) {
  return (
    <Row gap={0.75} align="center">
      <svg width={26} height={16} aria-hidden>
        <g transform="translate(0,8)">
          <Drawn mark={mark} />
        </g>
      </svg>
      {words}
    </Row>
  );
}
