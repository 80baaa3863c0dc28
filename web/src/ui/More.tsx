import Button from "@mui/material/Button";
import { styled } from "@mui/material/styles";

import { ink } from "../theme/theme";

const Line = styled("div")(({ theme }) => ({
  display: "flex",
  gap: theme.spacing(1),
  alignItems: "baseline",
  color: ink("ink2"),
  padding: theme.spacing(0.75, 0),
}));

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
    <Line>
      {shown} of {total}
      {what && ` ${what}`} shown
      <Button variant="outlined" onClick={more}>
        Show more
      </Button>
    </Line>
  );
}
