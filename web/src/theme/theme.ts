import { createTheme } from "@mui/material/styles";
import type { CSSProperties } from "react";

/** The tokens of the drawing office: paper, ink, one water colour; by day and for the night shift. */
export interface Tokens {
  paper: string;
  sheet: string;
  ink: string;
  ink2: string;
  ink3: string;
  rule: string;
  water: string;
  water2: string;
  deep: string;
  deep2: string;
  routine: string;
  pending: string;
  pending2: string;
  ahead: string;
  done: string;
  done2: string;
  bar: string;
  barText: string;
  barRest: string;
  barWater: string;
  barDeep: string;
}

/** Paper: states differ at a glance with each of the three common kinds of colour blindness too (colours.test.ts). */
export const day: Tokens = {
  paper: "#F5F2EA",
  sheet: "#FCFAF5",
  ink: "#17242B",
  ink2: "#4A5A61",
  ink3: "#86939A",
  rule: "#D8D2C4",
  water: "#0B6B7F",
  water2: "#CFE4E6",
  deep: "#A6332A",
  deep2: "#EFD6D4",
  routine: "#637F8B",
  pending: "#815500",
  pending2: "#F5E5C0",
  ahead: "#5A4A9C",
  done: "#3E6849",
  done2: "#DEEFE2",
  bar: "#17242B",
  barText: "#E9E6DC",
  barRest: "#4A565C",
  barWater: "#5CC0D0",
  barDeep: "#F6A594",
};

/** The same for the night shift. */
export const night: Tokens = {
  paper: "#0F191E",
  sheet: "#15232A",
  ink: "#E9E6DC",
  ink2: "#A9B6BA",
  ink3: "#71828A",
  rule: "#2A3A40",
  water: "#5CC0D0",
  water2: "#17424C",
  deep: "#FD8F79",
  deep2: "#4B211C",
  routine: "#90A6AD",
  pending: "#E2B04A",
  pending2: "#453511",
  ahead: "#A99AEB",
  done: "#83C59B",
  done2: "#1F3D2A",
  bar: "#0A1216",
  barText: "#E9E6DC",
  barRest: "#4A565C",
  barWater: "#5CC0D0",
  barDeep: "#F6A594",
};

/** Every token's name. */
export const TOKENS = Object.keys(day) as (keyof Tokens)[];

declare module "@mui/material/styles" {
  interface Palette {
    t: Tokens;
  }
  interface PaletteOptions {
    t?: Tokens;
  }
}

declare module "@mui/material/styles" {
  interface TypographyVariants {
    note: CSSProperties;
    laneName: CSSProperties;
  }
  interface TypographyVariantsOptions {
    note?: CSSProperties;
    laneName?: CSSProperties;
  }
}

declare module "@mui/material/styles" {
  interface Palette {
    quiet: Palette["primary"];
  }
  interface PaletteOptions {
    quiet?: PaletteOptions["primary"];
  }
}

declare module "@mui/material/Button" {
  interface ButtonPropsColorOverrides {
    quiet: true;
  }
  interface ButtonPropsSizeOverrides {
    inline: true;
    row: true;
  }
}

declare module "@mui/material/Typography" {
  interface TypographyPropsVariantOverrides {
    note: true;
    laneName: true;
  }
}

const shared = (t: Tokens) => ({
  t,
  primary: { main: t.ink, contrastText: t.sheet },
  secondary: { main: t.water },
  quiet: { main: t.ink2, contrastText: t.sheet },
  error: { main: t.deep },
  background: { default: t.paper, paper: t.sheet },
  text: { primary: t.ink, secondary: t.ink2 },
  divider: t.rule,
});

/** A token as a CSS variable: it follows the scheme without drawing anything again. */
export const ink = (name: keyof Tokens): string => `var(--mui-palette-t-${name})`;

/** All bundled, none fetched. */
export const fonts = {
  title: "'Archivo Variable', sans-serif",
  text: "'Atkinson Hyperlegible Next Variable', sans-serif",
  mono: "'Atkinson Hyperlegible Mono Variable', monospace",
};

const title = { fontFamily: fonts.title, fontWeight: 700, lineHeight: 1.25 };

/** How everything of MUI looks here; what else there is stands in ui/. */
export const theme = createTheme({
  cssVariables: { colorSchemeSelector: "data-scheme" },
  colorSchemes: { light: { palette: shared(day) }, dark: { palette: shared(night) } },
  typography: {
    fontFamily: fonts.text,
    fontSize: 13.5,
    h1: { ...title, fontSize: 20 },
    h2: { ...title, fontSize: 16 },
    h3: { ...title, fontSize: 14 },
    body1: { fontSize: 13.5, lineHeight: 1.45 },
    note: { fontSize: 12.5, lineHeight: 1.4 },
    laneName: { fontFamily: fonts.title, fontSize: 12.5, fontWeight: 600 },
    button: { textTransform: "none", fontWeight: 650 },
  },
  shape: { borderRadius: 3 },
  components: {
    MuiButton: {
      defaultProps: { disableElevation: true, disableRipple: true, size: "small" },
      styleOverrides: { root: { whiteSpace: "nowrap", padding: "5px 14px", minWidth: 0, fontSize: 13 } },
      variants: [
        // Among words: as large as they are.
        { props: { size: "inline" }, style: { padding: 0, fontSize: "inherit", lineHeight: "inherit" } },
        // In a row of a list.
        { props: { size: "row" }, style: { padding: "0 8px", fontSize: 12 } },
      ],
    },
    MuiToggleButtonGroup: { defaultProps: { size: "small" } },
    MuiToggleButton: {
      styleOverrides: { root: { padding: "4px 12px", fontSize: 13, fontWeight: 600, color: ink("ink") } },
    },
    MuiButtonBase: { defaultProps: { disableRipple: true } },
    MuiCssBaseline: {
      styleOverrides: {
        "html, body, #root": { height: "100%" },
        // No link is blue by chance: it has the ink of its text, unless it leads somewhere by itself.
        a: { color: "inherit" },
        ":focus-visible": { outline: "2px solid var(--mui-palette-t-water)", outlineOffset: 1 },
        "@media (prefers-reduced-motion: reduce)": {
          "*": { transition: "none !important", animation: "none !important" },
        },
        // Whoever asks for more contrast gets the quiet inks as dark as the others, and lines that are seen.
        "@media (prefers-contrast: more)": {
          ":root[data-scheme]": {
            "--mui-palette-t-ink2": "var(--mui-palette-t-ink)",
            "--mui-palette-t-ink3": "var(--mui-palette-t-ink)",
            "--mui-palette-t-rule": "var(--mui-palette-t-ink)",
            "--mui-palette-text-secondary": "var(--mui-palette-t-ink)",
            "--mui-palette-divider": "var(--mui-palette-t-ink)",
          },
        },
        "@media print": {
          ".no-print": { display: "none !important" },
          "html, body, #root": { height: "auto", background: "none" },
          "@page": { margin: "14mm 12mm" },
        },
      },
    },
  },
});
