import Button from "@mui/material/Button";
import { styled } from "@mui/material/styles";
import type { ReactNode } from "react";

import { ink } from "../theme/theme";

const Frame = styled("div", { shouldForwardProp: (name) => name !== "calm" })<{ calm?: boolean }>(
  ({ theme, calm }) => ({
    borderLeft: `3px solid ${ink(calm ? "water" : "deep")}`,
    backgroundColor: ink(calm ? "water2" : "deep2"),
    padding: theme.spacing(1, 1.5),
    overflowWrap: "anywhere",
    "& > strong": { display: "block", color: ink(calm ? "ink" : "deep") },
    "& > .MuiButton-root": { display: "block", marginTop: theme.spacing(0.75) },
  }),
);

/** What went wrong, where it happened: what, what Ordnung did, and what to do. ``calm``: nothing did, but somebody is asked. */
export function Notice({
  title,
  children,
  onSeen,
  calm,
}: {
  title?: string;
  calm?: boolean;
  children: ReactNode;
  onSeen?: () => void;
}) {
  return (
    <Frame role="alert" calm={calm}>
      {title && <strong>{title}</strong>}
      {children}
      {onSeen && (
        <Button variant="outlined" onClick={onSeen}>
          Seen
        </Button>
      )}
    </Frame>
  );
}
