import { styled } from "@mui/material/styles";

import { ink } from "../theme/theme";

interface Looks {
  /** ``water`` says that it does something; ``plain`` and ``quiet`` that it leads to what it names. */
  tone?: "water" | "quiet" | "plain";
  strong?: boolean;
  /** It stands among words that are none: a line below says so. */
  link?: boolean;
}

const TONES = { water: ink("water"), quiet: ink("ink2"), plain: "inherit" };

/** A button within a text or a table: it looks like a word there, and is as large as its words. */
export const Press = styled("button", {
  shouldForwardProp: (name) => !["tone", "strong", "link", "sx", "as"].includes(name as string),
})<Looks>(({ theme, tone = "water", strong = tone === "water", link }) => ({
  all: "unset",
  cursor: "pointer",
  color: TONES[tone],
  fontWeight: strong ? 650 : undefined,
  textDecoration: link ? "underline" : undefined,
  whiteSpace: "nowrap",
  // A finger needs more than the word is high; the room around it counts too.
  "@media (pointer: coarse)": { padding: theme.spacing(0.75, 0.5), margin: theme.spacing(-0.75, -0.5) },
  "&:hover": { textDecoration: "underline" },
  "&:focus-visible": { outline: `2px solid ${ink("water")}`, outlineOffset: 1 },
  "&[aria-disabled=true]": { opacity: 0.5, cursor: "not-allowed" },
}));

/** What a cell tells, as a button: underlined in water while it is the one chosen. */
export const Chosen = styled("button")(({ theme }) => ({
  all: "unset",
  display: "block",
  cursor: "pointer",
  borderRadius: 2,
  padding: theme.spacing(0, 0.5),
  margin: theme.spacing(0, -0.5),
  "&[aria-pressed=true]": { boxShadow: `inset 0 -2px 0 ${ink("water")}` },
  "&:hover": { backgroundColor: ink("paper") },
  "&:focus-visible": { outline: `2px solid ${ink("water")}` },
}));
