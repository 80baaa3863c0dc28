import Button, { type ButtonProps } from "@mui/material/Button";
import Tooltip from "@mui/material/Tooltip";

import type { Right } from "../api/client";
import { useBarred } from "../api/rights";

/** A button that, when it can't be used, says why when reached; it stays focusable. ``takes`` is the right it takes. */
export function Act({
  why: reason,
  takes,
  children,
  onClick,
  ...rest
}: ButtonProps & { why?: string | null; takes?: Right }) {
  const why = useBarred(takes) ?? reason;
  const barred = Boolean(why);
  return (
    <Tooltip title={why ?? ""} describeChild>
      <Button
        {...rest}
        type={barred ? "button" : rest.type}
        aria-disabled={barred}
        onClick={barred ? undefined : onClick}
        sx={{ ...(barred ? { opacity: 0.5, cursor: "not-allowed" } : {}), ...rest.sx }}
      >
        {children}
      </Button>
    </Tooltip>
  );
}
