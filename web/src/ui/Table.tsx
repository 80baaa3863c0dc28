import { styled } from "@mui/material/styles";

import { fonts, ink } from "../theme/theme";

interface Looks {
  /** A line around it: it stands for itself, not within a text. */
  framed?: boolean;
  /** Rows close to each other, for lists that are skimmed. */
  dense?: boolean;
}

/** A table of few rows, written as HTML has it. Cells of the class ``n`` hold numbers. */
export const Table = styled("table", {
  shouldForwardProp: (name) => name !== "framed" && name !== "dense",
})<Looks>(({ theme, framed, dense }) => ({
  width: "100%",
  borderCollapse: "collapse",
  backgroundColor: theme.vars?.palette.background.paper,
  border: framed ? `1px solid ${ink("ink")}` : undefined,
  lineHeight: 1.35,
  "& th": {
    textAlign: "left",
    fontFamily: fonts.title,
    fontWeight: 600,
    fontSize: 12.5,
    color: ink("ink2"),
    padding: theme.spacing(0.75, 1),
    borderBottom: `1px solid ${ink("ink")}`,
    whiteSpace: "nowrap",
  },
  "& td": {
    padding: theme.spacing(dense ? 0.375 : 0.5, 1),
    borderBottom: `1px solid ${ink("rule")}`,
    verticalAlign: "top",
  },
  "& .n": { textAlign: "right", whiteSpace: "nowrap" },
  // Rows: out of it, picked, not there before, and one that heads those below it.
  "& tr.quiet td": { color: ink("ink2") },
  "& tr.picked": { backgroundColor: ink("water2") },
  "& tr.fresh": { backgroundColor: ink("pending2") },
  "& tr.head": { backgroundColor: ink("paper") },
  "& tr.head th": { borderBottom: 0 },
  "& td.quiet": { color: ink("ink2") },
  "& td.n": { fontFamily: fonts.mono, fontVariantNumeric: "tabular-nums" },
  // A table that runs over several sheets of paper has its head on each.
  "@media print": { "& thead": { display: "table-header-group" }, "& tr": { breakInside: "avoid" } },
}));
