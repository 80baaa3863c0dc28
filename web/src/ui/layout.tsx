// What everything is laid out and written with: rows, stacks, blocks and texts, in steps of the theme's spacing.
import { styled, type Theme } from "@mui/material/styles";
import type { CSSProperties } from "react";

import { ink, type Tokens } from "../theme/theme";

/** Sizes of text: as the page has it, in lists and panels, beside a thing, and below it. */
const SIZES = { body: 13.5, small: 13, note: 12.5, fine: 12 } as const;
/** What a text is about. The words say it too. */
const TONES = {
  plain: "ink",
  quiet: "ink2",
  faint: "ink3",
  water: "water",
  deep: "deep",
  done: "done",
  pending: "pending",
  ahead: "ahead",
  routine: "routine",
} as const satisfies Record<string, keyof Tokens>;

const SPACES = {
  m: ["margin"],
  mt: ["marginTop"],
  mb: ["marginBottom"],
  ml: ["marginLeft"],
  mr: ["marginRight"],
  my: ["marginTop", "marginBottom"],
  mx: ["marginLeft", "marginRight"],
  p: ["padding"],
  pt: ["paddingTop"],
  pb: ["paddingBottom"],
  pl: ["paddingLeft"],
  pr: ["paddingRight"],
  px: ["paddingLeft", "paddingRight"],
  py: ["paddingTop", "paddingBottom"],
} as const;
type Space = keyof typeof SPACES;

interface Looks extends Partial<Record<Exclude<Space, "ml">, number>> {
  /** In steps of 8 pixels, as all spaces here; ``auto`` puts it to the end of its row. */
  ml?: number | "auto";
  gap?: number;
  align?: CSSProperties["alignItems"];
  /** Its parts go on in the next line where they have no room. */
  wrap?: boolean;
  /** Its parts stand apart as far as there is room. */
  between?: boolean;
  /** It is as high as what is in it, not as what is beside it. */
  start?: boolean;
  /** Its parts are as wide as what is in them. */
  left?: boolean;
  /** A list without marks. */
  plain?: boolean;
  /** Long words break: addresses, keys. */
  breaks?: boolean;
  noWrap?: boolean;
  flex?: number;
  minWidth?: number;
  maxWidth?: number;
  size?: keyof typeof SIZES;
  tone?: keyof typeof TONES;
  strong?: boolean;
  /** A line above it, thin unless it is one of ``ink``. */
  ruled?: boolean | "ink";
  /** A thin line below it: one of a list. */
  under?: boolean;
  /** A line around it. */
  framed?: keyof typeof TONES | "rule";
  /** A thick line at its left: it stands out among its like, in this tone. */
  side?: keyof typeof TONES | "rule" | "none";
  /** What it stands on. */
  ground?: keyof typeof GROUNDS;
  /** One line that ends in dots where there is no room. */
  cut?: boolean;
}

/** A look whose tone hangs on a state: said beside the words that tell it. */
const TONE_OR_RULE = { ...TONES, rule: "rule", none: "sheet" } as const;
const GROUNDS = {
  deep: "deep2",
  pending: "pending2",
  water: "water2",
  paper: "paper",
  sheet: "sheet",
} as const;

/** What is for the looks alone; ``as`` and the others are for the styling itself. */
const OWN = new Set<PropertyKey>([
  ..."as sx theme ownerState".split(" "),
  ...Object.keys(SPACES),
  ..."gap align wrap between start left plain breaks noWrap flex minWidth maxWidth size tone strong".split(
    " ",
  ),
  ..."ruled under framed side ground cut".split(" "),
]);
const options = { shouldForwardProp: (name: PropertyKey) => !OWN.has(name) };

function spaces(theme: Theme, looks: Looks): CSSProperties {
  const found: Record<string, string> = {};
  for (const key of Object.keys(SPACES) as Space[]) {
    const value = looks[key];
    if (value === undefined) continue;
    for (const side of SPACES[key]) found[side] = value === "auto" ? value : theme.spacing(value);
  }
  return found;
}

const looksOf = ({ theme, ...looks }: Looks & { theme: Theme }): CSSProperties => ({
  ...spaces(theme, looks),
  gap: looks.gap === undefined ? undefined : theme.spacing(looks.gap),
  alignItems: looks.align,
  flexWrap: looks.wrap ? "wrap" : undefined,
  justifyContent: looks.between ? "space-between" : undefined,
  alignContent: looks.start ? "start" : undefined,
  justifyItems: looks.left ? "start" : undefined,
  listStyle: looks.plain ? "none" : undefined,
  overflowWrap: looks.breaks ? "anywhere" : undefined,
  whiteSpace: looks.noWrap ? "nowrap" : undefined,
  flex: looks.flex,
  minWidth: looks.minWidth,
  maxWidth: looks.maxWidth,
  fontSize: looks.size && SIZES[looks.size],
  color: looks.tone && ink(TONES[looks.tone]),
  fontWeight: looks.strong ? 650 : undefined,
  ...linesOf(looks),
  ...(looks.cut ? CUT : {}),
});

/** One line that ends in dots where there is no room. */
const CUT = { overflow: "hidden", textOverflow: "ellipsis", whiteSpace: "nowrap", minWidth: 0 } as const;

const line = (tone: keyof typeof TONE_OR_RULE, width = 1) => `${width}px solid ${ink(TONE_OR_RULE[tone])}`;

function linesOf({ framed, side, ruled, under, ground }: Looks): CSSProperties {
  return {
    ...(framed ? { border: line(framed) } : {}),
    ...(side ? { borderLeft: side === "none" ? "3px solid transparent" : line(side, 3) } : {}),
    ...(ruled ? { borderTop: line(ruled === "ink" ? "plain" : "rule") } : {}),
    ...(under ? { borderBottom: line("rule") } : {}),
    ...(ground ? { backgroundColor: ink(GROUNDS[ground]) } : {}),
  };
}

/** A part with some space around it. ``as`` says which element it is. */
export const Block = styled("div", options)<Looks>(looksOf);

/** Words of another size, tone or weight. */
export const Text = styled("div", options)<Looks>(looksOf);

/** Parts beside one another. */
export const Row = styled("div", options)<Looks>((looks) => ({ display: "flex", ...looksOf(looks) }));

/** Parts below one another. */
export const Stack = styled(
  "div",
  options,
)<Looks>((looks) => ({
  display: "grid",
  // As wide as there is room, not as wide as the widest of its parts: what is wider scrolls by itself.
  gridTemplateColumns: "minmax(0,1fr)",
  ...looksOf(looks),
}));
