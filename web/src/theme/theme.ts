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
}

const day: Tokens = {
  paper: "#F5F2EA",
  sheet: "#FCFAF5",
  ink: "#17242B",
  ink2: "#4A5A61",
  ink3: "#86939A",
  rule: "#D8D2C4",
  water: "#0B6B7F",
  water2: "#CFE4E6",
  deep: "#A63325",
  deep2: "#F3D9D2",
  routine: "#5F7C8A",
  pending: "#7A5105",
  pending2: "#F4E4BF",
  ahead: "#5A4A9C",
  done: "#366646",
  done2: "#D5E5D6",
  bar: "#17242B",
  barText: "#E9E6DC",
};

const night: Tokens = {
  paper: "#0F191E",
  sheet: "#15232A",
  ink: "#E9E6DC",
  ink2: "#A9B6BA",
  ink3: "#71828A",
  rule: "#2C3D45",
  water: "#5CC0D0",
  water2: "#17424C",
  deep: "#FF917C",
  deep2: "#4B211C",
  routine: "#93AAB5",
  pending: "#E2B04A",
  pending2: "#453511",
  ahead: "#A99AEB",
  done: "#7FC096",
  done2: "#1F3D2A",
  bar: "#0A1216",
  barText: "#E9E6DC",
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
  error: { main: t.deep },
  background: { default: t.paper, paper: t.sheet },
  text: { primary: t.ink, secondary: t.ink2 },
  divider: t.rule,
});

/** A token as a CSS variable: it follows the scheme without drawing anything again. */
export const ink = (name: keyof Tokens): string => `var(--mui-palette-t-${name})`;

export const fonts = {
  title: "'Archivo Variable', sans-serif",
  text: "'Atkinson Hyperlegible Next Variable', sans-serif",
  mono: "'Atkinson Hyperlegible Mono Variable', monospace",
};

export const theme = createTheme({
  cssVariables: { colorSchemeSelector: "data-scheme" },
  colorSchemes: { light: { palette: shared(day) }, dark: { palette: shared(night) } },
  typography: {
    fontFamily: fonts.text,
    fontSize: 13.5,
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
    },
    MuiToggleButtonGroup: { defaultProps: { size: "small" } },
    MuiToggleButton: {
      styleOverrides: { root: { padding: "4px 12px", fontSize: 13, fontWeight: 600, color: ink("ink") } },
    },
    MuiButtonBase: { defaultProps: { disableRipple: true } },
    MuiCssBaseline: {
      styleOverrides: {
        "html, body, #root": { height: "100%" },
        ":focus-visible": { outline: "2px solid var(--mui-palette-t-water)", outlineOffset: 1 },
        "@media (prefers-reduced-motion: reduce)": {
          "*": { transition: "none !important", animation: "none !important" },
        },
        "@media print": { ".no-print": { display: "none !important" } },
      },
    },
  },
});
