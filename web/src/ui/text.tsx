import Typography from "@mui/material/Typography";
import { styled } from "@mui/material/styles";
import type { ReactNode } from "react";

import { fonts, ink } from "../theme/theme";

/** A title in Archivo; the level is its rank in the page, and its size. */
export function Title({ children, level = 1, id }: { children: ReactNode; level?: 1 | 2 | 3; id?: string }) {
  return (
    <Typography variant={`h${level}`} id={id}>
      {children}
    </Typography>
  );
}

const Digits = styled("span")({ fontFamily: fonts.mono, fontVariantNumeric: "tabular-nums" });

/** A version, a size, a time: what stands below its like is aligned with it. */
export function Mono({ children, dim }: { children: ReactNode; dim?: boolean }) {
  return <Digits style={dim ? { color: ink("ink2") } : undefined}>{children}</Digits>;
}

/** Out of sight, but read aloud and reached by keys. */
export const spoken = {
  position: "absolute",
  width: 1,
  height: 1,
  padding: 0,
  margin: -1,
  overflow: "hidden",
  clip: "rect(0 0 0 0)",
  whiteSpace: "nowrap",
  border: 0,
} as const;

/** Words that are only read aloud. */
export const Spoken = styled("span")(spoken);
