import { styled } from "@mui/material/styles";

import { ink } from "../theme/theme";

interface Looks {
  /** On the dark line at the bottom, which is dark in both schemes. */
  onBar?: boolean;
}

const Track = styled("span", { shouldForwardProp: (name) => name !== "onBar" })<Looks>(({ onBar }) => ({
  display: "block",
  flex: "none",
  width: 80,
  height: 5,
  backgroundColor: onBar ? ink("barRest") : ink("rule"),
  "& > span": {
    display: "block",
    height: "100%",
    backgroundColor: onBar ? ink("barWater") : ink("water"),
    transition: "width .3s",
  },
}));

/**
 * How far something is, from 0 to 1. With a label it tells so itself; without one the words beside it do.
 */
export function Progress({ part, label, onBar }: { part: number; label?: string } & Looks) {
  const told = label === undefined ? { "aria-hidden": true } : { role: "progressbar", "aria-label": label };
  return (
    <Track {...told} aria-valuenow={label === undefined ? undefined : Math.round(part * 100)} onBar={onBar}>
      <span style={{ width: `${part * 100}%` }} />
    </Track>
  );
}
