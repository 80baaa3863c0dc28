import { styled } from "@mui/material/styles";

import { ink, type Tokens } from "../theme/theme";

/** What the marks of a drawing mean, one beside the other. */
export const MarkList = styled("ul")(({ theme }) => ({
  display: "flex",
  flexWrap: "wrap",
  columnGap: theme.spacing(2),
  rowGap: theme.spacing(0.5),
  margin: 0,
  padding: 0,
  listStyle: "none",
  fontSize: 12.5,
  color: ink("ink2"),
}));

const Patch = styled("span")({ width: 12, height: 6 });

/** A mark that fills as far as what it tells. */
export function Swatch({ tone, part }: { tone: keyof Tokens; part: number }) {
  return (
    <Patch
      aria-hidden
      style={{
        border: `1px solid ${ink(tone === "rule" ? "ink3" : tone)}`,
        background: `linear-gradient(to right, ${ink(tone)} ${part * 100}%, transparent 0)`,
      }}
    />
  );
}
