import { styled } from "@mui/material/styles";

import { fonts, ink } from "../theme/theme";

/** One of a few questions or ways, of which one is chosen: dark when it is. */
export const Pill = styled("button", { shouldForwardProp: (name) => name !== "on" })<{ on: boolean }>(
  ({ theme, on }) => ({
    all: "unset",
    cursor: "pointer",
    padding: theme.spacing(0.35, 1.1),
    borderRadius: 15,
    fontWeight: 650,
    fontSize: 13,
    backgroundColor: on ? ink("ink") : "transparent",
    color: on ? ink("sheet") : ink("ink2"),
    "&:hover": { textDecoration: on ? "none" : "underline" },
    "&:focus-visible": { outline: `2px solid ${ink("water")}` },
  }),
);

/** A small square button with one sign on it. */
export const Sign = styled("button")({
  all: "unset",
  cursor: "pointer",
  width: 22,
  height: 20,
  lineHeight: "20px",
  textAlign: "center",
  fontFamily: fonts.title,
  fontWeight: 700,
  backgroundColor: ink("sheet"),
  border: `1px solid ${ink("ink")}`,
  "&:focus-visible": { outline: `2px solid ${ink("water")}` },
});

/** One of a few, as large as its words, with a line around it: thick-inked when it is chosen. Holds a hidden radio. */
export const Card = styled("label", { shouldForwardProp: (name) => name !== "on" })<{ on: boolean }>(
  ({ theme, on }) => ({
    position: "relative",
    border: `1px solid ${on ? ink("ink") : ink("rule")}`,
    padding: theme.spacing(0.5, 1),
    cursor: "pointer",
    fontSize: 13,
    "&:focus-within": { outline: `2px solid ${ink("water")}` },
  }),
);

/** What is in, and struck out once it is pressed. */
export const Struck = styled("button")(({ theme }) => ({
  all: "unset",
  boxSizing: "border-box",
  cursor: "pointer",
  padding: theme.spacing(0, 0.75),
  minHeight: 24,
  fontSize: 12.5,
  fontWeight: 650,
  borderRadius: 3,
  border: `1px solid ${ink("rule")}`,
  whiteSpace: "nowrap",
  "&[aria-pressed=true]": { borderStyle: "dashed", color: ink("ink2"), textDecoration: "line-through" },
  "&:hover": { borderColor: ink("ink") },
  "&:focus-visible": { outline: `2px solid ${ink("water")}`, outlineOffset: 1 },
}));
