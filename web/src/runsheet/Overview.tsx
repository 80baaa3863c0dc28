import { useMemo, useRef } from "react";

import type { RunServer } from "../api/client";
import { ink } from "../theme/theme";
import { allSpans, densityOf, peakOf } from "./bands";
import { DensityMarks } from "./DensityMarks";
import type { Stretch } from "./timescale";
import type { Stretched } from "./useStretch";
import { Row, Text } from "../ui/layout";

const HEIGHT = 30;
const PIECE = 3;
/** The strip is drawn anew so often at most: it is small, and a thousand lanes are in it. */
const EVERY_S = 20;

interface Props {
  lanes: RunServer[];
  time: Stretched;
  whole: Stretch;
  left: number;
  width: number;
  at: number;
  isRunning: boolean;
}

/** The whole run in one strip, with the stretch in sight framed: press or drag to go there. */
export function Overview({ lanes, time, whole, left, width, at, isRunning }: Props) {
  const strip = useRef<SVGSVGElement>(null);
  const then = Math.floor(at / EVERY_S) * EVERY_S;
  const pieces = Math.ceil(width / PIECE);
  const end = whole.to;
  const { was, comes, peak } = useMemo(() => {
    const { done, ahead } = allSpans(lanes, then, isRunning);
    const all = { from: 0, to: end };
    const [was, comes] = [densityOf(done, all, pieces, then), densityOf(ahead, all, pieces, then)];
    return { was, comes, peak: peakOf(was, comes) };
  }, [lanes, then, isRunning, end, pieces]);
  const x = (seconds: number) => (seconds / end) * width;
  const goTo = (event: React.PointerEvent) => {
    const from = strip.current?.getBoundingClientRect().left ?? 0;
    const middle = ((event.clientX - from) / width) * end;
    const half = (time.shown.to - time.shown.from) / 2;
    time.show({ from: middle - half, to: middle + half });
  };
  return (
    <Row ruled="ink" align="center" className="no-print">
      <Text pl={1.25} size="note" tone="quiet" style={{ width: left, flex: "none" }}>
        whole run
      </Text>
      <svg
        ref={strip}
        width={width}
        height={HEIGHT}
        aria-hidden
        style={{ touchAction: "none", cursor: "ew-resize" }}
        onPointerDown={(event) => {
          event.currentTarget.setPointerCapture(event.pointerId);
          goTo(event);
        }}
        onPointerMove={(event) => event.buttons && goTo(event)}
      >
        <DensityMarks done={was} ahead={comes} peak={peak} width={width} height={HEIGHT - 2} />
        {isRunning && <line x1={x(at)} x2={x(at)} y2={HEIGHT} stroke={ink("deep")} strokeWidth={1.6} />}
        <rect
          x={x(time.shown.from) + 0.75}
          width={Math.max(6, x(time.shown.to - time.shown.from) - 1.5)}
          y={0.75}
          height={HEIGHT - 1.5}
          fill="none"
          stroke={ink("water")}
          strokeWidth={1.5}
        />
      </svg>
    </Row>
  );
}
