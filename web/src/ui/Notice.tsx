import Button from "@mui/material/Button";
import { styled } from "@mui/material/styles";
import type { ReactNode } from "react";

import { ink } from "../theme/theme";

const Frame = styled("div")(({ theme }) => ({
  borderLeft: `3px solid ${ink("deep")}`,
  backgroundColor: ink("deep2"),
  padding: theme.spacing(1, 1.5),
  overflowWrap: "anywhere",
  "& > strong": { display: "block", color: ink("deep") },
  "& > .MuiButton-root": { display: "block", marginTop: theme.spacing(0.75) },
}));

/** What went wrong, where it happened: what, what Ordnung did, and what to do. */
export function Notice({
  title,
  children,
  onSeen,
}: {
  title?: string;
  children: ReactNode;
  onSeen?: () => void;
}) {
  return (
    <Frame role="alert">
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
