import Tooltip from "@mui/material/Tooltip";
import type { ReactElement } from "react";

/** What a drawn mark means, when the pointer or the focus is on it; its label says the same to who can't see it. */
export function Hint({ told, children }: { told: string; children: ReactElement }) {
  return (
    <Tooltip title={told} describeChild disableInteractive>
      {children}
    </Tooltip>
  );
}
