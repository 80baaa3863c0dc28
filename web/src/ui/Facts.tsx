import { styled } from "@mui/material/styles";
import type { ReactNode } from "react";

import { ink } from "../theme/theme";

interface Looks {
  /** Its values are numbers: they stand below each other at the right. */
  numbers?: boolean;
}

const List = styled("dl", { shouldForwardProp: (name) => name !== "numbers" })<Looks>(
  ({ theme, numbers }) => ({
    margin: 0,
    display: "grid",
    gridTemplateColumns: numbers ? "1fr auto" : "auto 1fr",
    columnGap: theme.spacing(1.5),
    rowGap: theme.spacing(0.25),
    "& dt": { fontWeight: numbers ? undefined : 650 },
    "& dd": { margin: 0, textAlign: numbers ? "right" : undefined, color: numbers ? undefined : ink("ink2") },
  }),
);

/** What is known of one thing: what it is called, and how it is. */
export function Facts({
  rows,
  label,
  numbers,
}: Looks & { rows: readonly (readonly [ReactNode, ReactNode])[]; label?: string }) {
  return (
    <List aria-label={label} numbers={numbers}>
      {rows.flatMap(([term, value], at) => [<dt key={`t${at}`}>{term}</dt>, <dd key={`v${at}`}>{value}</dd>])}
    </List>
  );
}
