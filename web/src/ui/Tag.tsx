import { styled } from "@mui/material/styles";
import type { ReactNode } from "react";

import { ink } from "../theme/theme";

const TONES = {
  deep: [ink("deep2"), ink("deep")],
  rule: [ink("rule"), ink("ink")],
  water: [ink("water2"), ink("ink")],
  done: [ink("done2"), ink("done")],
  pending: [ink("pending2"), ink("pending")],
} as const;

/** The tints there are. */
export type Tone = keyof typeof TONES;

const Label = styled("span")({
  padding: "1px 6px",
  borderRadius: 2,
  fontSize: 12,
  fontWeight: 650,
  whiteSpace: "nowrap",
});

/** One word of state on its tint. The word tells it; the tint only repeats it. */
export function Tag({ tone = "rule", children }: { tone?: Tone; children: ReactNode }) {
  const [backgroundColor, color] = TONES[tone];
  return <Label style={{ backgroundColor, color }}>{children}</Label>;
}
