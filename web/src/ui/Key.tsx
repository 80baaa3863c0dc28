import { styled } from "@mui/material/styles";

/** A key of the keyboard, in the ink of what it stands in. */
export const Key = styled("kbd")(({ theme }) => ({
  border: "1px solid",
  borderRadius: 2,
  padding: "0 5px",
  marginLeft: theme.spacing(0.5),
  fontSize: 11,
}));
