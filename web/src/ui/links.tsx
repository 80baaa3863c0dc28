import { styled } from "@mui/material/styles";
import { Link } from "react-router";

import { ink } from "../theme/theme";

/** A link that is the name of what it leads to: in the ink of what it stands in, underlined when it is reached. */
export const InkLink = styled(Link)({
  color: "inherit",
  textDecoration: "none",
  "&:hover, &:focus-visible": { textDecoration: "underline" },
});

/** A link within a text, in its ink. */
export const TextLink = styled(Link)({ color: "inherit" });

/** A link that stands for itself and leads to another page. */
export const WayTo = styled(Link)({ color: ink("water") });

/** A file to take along, named in the ink of what it stands in. */
export const FileLink = styled("a")({ color: "inherit" });
