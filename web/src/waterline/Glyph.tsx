import type { ReactElement } from "react";

import { ink } from "../theme/theme";

const W = 14;
const BASE = 5;
const STEP = 2.6;

/** How deep a bar hangs: one, two, three, four and more releases look different. */
export const depth = (behind: number): number => 1.4 + STEP * Math.min(Math.max(behind, 1), 4);

const stroke = <line x1={0} x2={W} y1={BASE} y2={BASE} stroke={ink("water")} strokeWidth={1.8} />;
const inkStroke = <line x1={0} x2={W} y1={BASE} y2={BASE} stroke={ink("ink")} strokeWidth={1.2} />;

const bar = (behind: number, fill: string, outline?: string): ReactElement => (
  <rect
    x={2}
    y={BASE + 0.6}
    width={W - 4}
    height={depth(behind)}
    fill={fill}
    stroke={outline}
    strokeWidth={outline ? 1.4 : 0}
  />
);

const MARKS: Record<string, (behind: number) => ReactElement> = {
  level: () => stroke,
  behind: (n) => (
    <>
      {bar(n, ink("routine"))}
      {inkStroke}
    </>
  ),
  exposed: (n) => (
    <>
      {bar(n, ink("deep"))}
      {inkStroke}
    </>
  ),
  ahead: () => (
    <>
      <rect x={2} y={0.5} width={W - 4} height={BASE - 0.5} fill={ink("ahead")} />
      {inkStroke}
    </>
  ),
  pending: (n) => (
    <>
      {bar(n, ink("pending2"), ink("pending"))}
      {inkStroke}
    </>
  ),
  held: () => (
    <>
      {inkStroke}
      <circle cx={W / 2} cy={BASE} r={3.2} fill={ink("sheet")} stroke={ink("ink")} strokeWidth={1.3} />
    </>
  ),
  unlisted: () => (
    <line x1={0} x2={W} y1={BASE} y2={BASE} stroke={ink("ink2")} strokeWidth={1.6} strokeDasharray="3 2.5" />
  ),
  unordered: () => (
    <line x1={1} x2={W - 1} y1={BASE + 4} y2={BASE - 3} stroke={ink("ink2")} strokeWidth={1.6} />
  ),
  stranded: (n) => (
    <>
      {bar(n, ink("routine"))}
      {inkStroke}
      <line x1={1} x2={W - 1} y1={BASE + depth(n)} y2={BASE + 1} stroke={ink("sheet")} strokeWidth={1.8} />
    </>
  ),
  unread: () => <circle cx={W / 2} cy={BASE} r={1.1} fill={ink("ink3")} />,
};

interface Props {
  verdict: string;
  behind?: number;
  scale?: number;
  x?: number;
  y?: number;
  label?: string;
}

/** The waterline: the stroke is the baseline; what hangs below it is drift. Shape tells, colour repeats. */
export function Glyph({ verdict, behind = 1, scale = 1, x, y, label }: Props) {
  const mark = MARKS[verdict] ?? MARKS.unread;
  return (
    <svg
      x={x}
      y={y}
      width={W * scale}
      height={17 * scale}
      viewBox={`0 0 ${W} 17`}
      style={{ flex: "none", overflow: "visible" }}
      role={label ? "img" : undefined}
      aria-label={label}
      aria-hidden={label ? undefined : true}
    >
      {mark?.(behind)}
    </svg>
  );
}
