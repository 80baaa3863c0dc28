import Button from "@mui/material/Button";
import { styled } from "@mui/material/styles";

import { ink } from "../theme/theme";

const Row = styled("div")(({ theme }) => ({
  display: "flex",
  flexWrap: "wrap",
  columnGap: theme.spacing(2),
  borderBottom: `1px solid ${ink("ink")}`,
  "& .MuiButton-root": { padding: theme.spacing(0.625, 0), borderRadius: 0 },
  "& [aria-pressed=true]": { boxShadow: `inset 0 -3px 0 ${ink("water")}` },
}));

/** What stands beside the sheet, to choose from: one of them is shown. */
export function Sides<S extends string>({
  label,
  sides,
  shown,
  show,
}: {
  label: string;
  sides: readonly (readonly [S, string])[];
  shown: S;
  show: (side: S) => void;
}) {
  return (
    <Row role="group" aria-label={label}>
      {sides.map(([side, words]) => (
        <Button key={side} variant="text" aria-pressed={side === shown} onClick={() => show(side)}>
          {words}
        </Button>
      ))}
    </Row>
  );
}
