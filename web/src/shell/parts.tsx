import Box from "@mui/material/Box";
import Button, { type ButtonProps } from "@mui/material/Button";
import Tooltip from "@mui/material/Tooltip";
import type { KeyboardEvent, ReactNode } from "react";

import type { Right } from "../api/client";
import { fonts, ink } from "../theme/theme";
import { useBarred } from "./rights";

/** A title in Archivo. */
export function Title({ children, level = 1, id }: { children: ReactNode; level?: 1 | 2 | 3; id?: string }) {
  const px = { 1: 20, 2: 16, 3: 14 }[level];
  return (
    <Box
      component={`h${level}`}
      id={id}
      sx={{ fontFamily: fonts.title, fontWeight: 700, fontSize: px, lineHeight: 1.25, m: 0 }}
    >
      {children}
    </Box>
  );
}

export function Mono({ children, dim }: { children: ReactNode; dim?: boolean }) {
  return (
    <Box
      component="span"
      sx={{
        fontFamily: fonts.mono,
        fontVariantNumeric: "tabular-nums",
        color: dim ? "text.secondary" : "inherit",
      }}
    >
      {children}
    </Box>
  );
}

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

const TONES = {
  deep: [ink("deep2"), ink("deep")],
  rule: [ink("rule"), ink("ink")],
  water: [ink("water2"), ink("ink")],
  done: [ink("done2"), ink("done")],
  pending: [ink("pending2"), ink("pending")],
} as const;

export function Tag({ tone = "rule", children }: { tone?: keyof typeof TONES; children: ReactNode }) {
  const [back, front] = TONES[tone];
  return (
    <Box
      component="span"
      sx={{
        px: 0.75,
        py: 0.125,
        borderRadius: 0.5,
        bgcolor: back,
        color: front,
        fontSize: 12,
        fontWeight: 650,
        whiteSpace: "nowrap",
      }}
    >
      {children}
    </Box>
  );
}

/** An error where it happened: what, and what to do. */
export function Trouble({
  title,
  children,
  onSeen,
}: {
  title?: string;
  children: ReactNode;
  onSeen?: () => void;
}) {
  return (
    <Box
      role="alert"
      sx={{
        borderLeft: `3px solid ${ink("deep")}`,
        bgcolor: ink("deep2"),
        px: 1.5,
        py: 1,
        fontSize: 13.5,
        overflowWrap: "anywhere",
      }}
    >
      {title && <Box sx={{ fontWeight: 700, color: ink("deep") }}>{title}</Box>}
      {children}
      {onSeen && (
        <Box sx={{ mt: 0.75 }}>
          <Button variant="outlined" onClick={onSeen}>
            Seen
          </Button>
        </Box>
      )}
    </Box>
  );
}

/** What an empty place is for, and the first act. */
export function Empty({ title, children, act }: { title: string; children: ReactNode; act?: ReactNode }) {
  return (
    <Box sx={{ maxWidth: 520, mx: "auto", mt: 10, display: "grid", gap: 1.25, justifyItems: "start" }}>
      <Title level={2}>{title}</Title>
      <Box sx={{ color: "text.secondary" }}>{children}</Box>
      {act}
    </Box>
  );
}

/** Out of sight, but read aloud and reached by keys. */
export const spokenSx = {
  position: "absolute",
  width: 1,
  height: 1,
  p: 0,
  m: "-1px",
  overflow: "hidden",
  clip: "rect(0 0 0 0)",
  whiteSpace: "nowrap",
  border: 0,
} as const;

export const tableSx = {
  width: "100%",
  borderCollapse: "collapse",
  bgcolor: "background.paper",
  fontSize: 13.5,
  lineHeight: 1.35,
  "& th": {
    textAlign: "left",
    fontFamily: fonts.title,
    fontWeight: 600,
    fontSize: 12.5,
    color: "text.secondary",
    px: 1,
    py: 0.75,
    borderBottom: `1px solid ${ink("ink")}`,
    whiteSpace: "nowrap",
  },
  "& td": { px: 1, py: 0.5, borderBottom: `1px solid ${ink("rule")}`, verticalAlign: "top" },
  "& .n": { textAlign: "right", whiteSpace: "nowrap" },
  "& td.n": { fontFamily: fonts.mono, fontVariantNumeric: "tabular-nums" },
} as const;

/** What makes a drawn shape a button: focus, click, Enter and Space. Its label tells what is drawn below it. */
export const pressable = (press: () => void) => ({
  role: "button",
  tabIndex: 0,
  style: { cursor: "pointer" },
  onClick: press,
  onKeyDown: (event: KeyboardEvent) => {
    if (event.key !== "Enter" && event.key !== " ") return;
    event.preventDefault();
    press();
  },
});

/** Two columns: the sheet and what is selected on it. */
export function Split({
  children,
  panel,
  label,
  width = 330,
}: {
  children: ReactNode;
  panel?: ReactNode;
  label: string;
  width?: number;
}) {
  return (
    <Box
      sx={{
        display: "grid",
        gridTemplateColumns: { xs: "minmax(0,1fr)", md: panel ? `minmax(0,1fr) ${width}px` : "1fr" },
        height: { md: "100%" },
        minHeight: 0,
      }}
    >
      <Box
        tabIndex={0}
        role="region"
        aria-label={label}
        sx={{ overflow: "auto", minWidth: 0, px: 2.25, py: 1.5 }}
      >
        {children}
      </Box>
      {panel && (
        <Box
          component="aside"
          tabIndex={0}
          aria-label={`${label}: details`}
          sx={{
            bgcolor: "background.paper",
            borderLeft: { md: `1px solid ${ink("ink")}` },
            overflow: "auto",
            px: 2,
            py: 1.5,
            minWidth: 0,
          }}
        >
          {panel}
        </Box>
      )}
    </Box>
  );
}

/** Below a list that is longer than what is shown: how much there is, and more of it. */
export function More({
  shown,
  total,
  what = "",
  more,
}: {
  shown: number;
  total: number;
  what?: string;
  more: () => void;
}) {
  if (shown >= total) return null;
  return (
    <Box
      sx={{
        display: "flex",
        gap: 1,
        alignItems: "baseline",
        fontSize: 13,
        color: "text.secondary",
        py: 0.75,
      }}
    >
      {shown} of {total}
      {what && ` ${what}`} shown
      <Button size="small" variant="outlined" onClick={more}>
        Show more
      </Button>
    </Box>
  );
}
