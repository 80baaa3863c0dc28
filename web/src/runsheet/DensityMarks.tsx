import { memo } from "react";

import { ink } from "../theme/theme";
import { type Density, type Layer, LAYERS } from "./bands";

const SOLID: Record<Layer, string> = {
  staging: ink("ink3"),
  writing: ink("water"),
  resetting: ink("ink"),
  checking: ink("done"),
  failed: ink("deep"),
};
const LIGHT: Record<Layer, string> = {
  staging: ink("rule"),
  writing: ink("water2"),
  resetting: ink("ink3"),
  checking: ink("done2"),
  failed: ink("deep2"),
};

interface Props {
  /** What has happened below, what is to come on top of it. */
  done: Density;
  ahead: Density;
  peak: number;
  width: number;
  height: number;
}

/** How many lanes are busy with what, as layers on one another; filled where it has happened. */
export const DensityMarks = memo(function DensityMarks({ done, ahead, peak, width, height }: Props) {
  const pieces = done.writing.length;
  const base = new Float64Array(pieces);
  const layers = [
    ...LAYERS.map((layer) => ({ key: `done ${layer}`, row: done[layer], fill: SOLID[layer] })),
    ...LAYERS.map((layer) => ({ key: `ahead ${layer}`, row: ahead[layer], fill: LIGHT[layer] })),
  ];
  return layers.map(({ key, row, fill }) => {
    const path = layerPath(base, row, width / pieces, height / Math.max(peak, 1), height);
    for (let i = 0; i < pieces; i++) base[i] = (base[i] ?? 0) + (row[i] ?? 0);
    return path && <path key={key} d={path} fill={fill} />;
  });
});

/** One layer as boxes on what lies below; nothing where it is empty. */
function layerPath(
  base: Float64Array,
  row: Float64Array,
  step: number,
  unit: number,
  height: number,
): string {
  let path = "";
  row.forEach((value, i) => {
    if (value <= 0) return;
    const y = height - ((base[i] ?? 0) + value) * unit;
    path += `M${(i * step).toFixed(1)},${y.toFixed(1)}h${step.toFixed(1)}v${(value * unit).toFixed(1)}h${(-step).toFixed(1)}z`;
  });
  return path;
}
