import Button from "@mui/material/Button";
import { styled } from "@mui/material/styles";
import { type ReactNode, useState } from "react";

import { ink } from "../theme/theme";

const Frame = styled("div", { shouldForwardProp: (name) => name !== "width" })<{ width: number | null }>(
  ({ theme, width }) => ({
    display: "grid",
    gridTemplateColumns: "minmax(0,1fr)",
    minHeight: 0,
    [theme.breakpoints.up("md")]: {
      gridTemplateColumns: width === null ? "1fr" : `minmax(0,1fr) ${width}px`,
      height: "100%",
    },
    "@media print": { display: "block", height: "auto" },
  }),
);

const Sheet = styled("div")(({ theme }) => ({
  overflow: "auto",
  minWidth: 0,
  padding: theme.spacing(1.5, 2.25),
  "@media print": { overflow: "visible", padding: 0 },
}));

/** Beside the sheet; on a phone a sheet of its own that comes from below and goes down again. */
const Aside = styled("aside", { shouldForwardProp: (name) => name !== "isUp" })<{ isUp: boolean }>(
  ({ theme, isUp }) => ({
    backgroundColor: theme.vars?.palette.background.paper,
    overflow: "auto",
    minWidth: 0,
    padding: theme.spacing(1.5, 2),
    [theme.breakpoints.up("md")]: { borderLeft: `1px solid ${ink("ink")}` },
    [theme.breakpoints.down("md")]: {
      position: "sticky",
      bottom: 0,
      zIndex: 3,
      padding: theme.spacing(0, 2),
      maxHeight: "72vh",
      borderTop: `1.5px solid ${ink("ink")}`,
      "& > .panel": { display: isUp ? "block" : "none", paddingBottom: theme.spacing(1.5) },
    },
    "@media print": { borderLeft: 0, padding: 0, overflow: "visible" },
  }),
);

const Handle = styled(Button)(({ theme }) => ({
  position: "sticky",
  top: 0,
  zIndex: 1,
  width: "100%",
  justifyContent: "space-between",
  borderRadius: 0,
  minHeight: 44,
  backgroundColor: theme.vars?.palette.background.paper,
  [theme.breakpoints.up("md")]: { display: "none" },
  "@media print": { display: "none" },
}));

interface Props {
  children: ReactNode;
  panel?: ReactNode;
  label: string;
  width?: number;
  /** What the panel tells of, where that can change: on a phone it comes up for another, and goes down for none. */
  about?: string | null;
}

/** Two columns: the sheet and what is selected on it. */
export function Split({ children, panel, label, width = 330, about = null }: Props) {
  const [told, tell] = useState(about);
  const [isUp, up] = useState(Boolean(about));
  if (told !== about) {
    tell(about);
    up(Boolean(about));
  }
  return (
    <Frame width={panel ? width : null}>
      <Sheet tabIndex={0} role="region" aria-label={label}>
        {children}
      </Sheet>
      {panel && (
        <Aside tabIndex={0} aria-label={`${label}: details`} isUp={isUp}>
          <Handle variant="text" color="inherit" aria-expanded={isUp} onClick={() => up(!isUp)}>
            {about ?? "Details"} <span aria-hidden>{isUp ? "▾" : "▴"}</span>
          </Handle>
          <div className="panel">{panel}</div>
        </Aside>
      )}
    </Frame>
  );
}
