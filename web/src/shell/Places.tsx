import Box from "@mui/material/Box";
import { styled } from "@mui/material/styles";
import { useQuery } from "@tanstack/react-query";
import { NavLink, useSearchParams } from "react-router";

import type { Site } from "../api/client";
import { site } from "../api/queries";
import { fonts, ink } from "../theme/theme";
import { count } from "./format";
import { Row } from "../ui/layout";

interface Place {
  path: string;
  name: string;
  fact: (s: Site) => string;
}

/** The six places in the order of the work. */
export const PLACES: Place[] = [
  { path: "/floor", name: "Floor", fact: (s) => count(s.servers, "server") },
  { path: "/drift", name: "Drift", fact: (s) => `${s.off} off` },
  { path: "/baseline", name: "Baseline", fact: (s) => s.baseline || "no catalog" },
  {
    path: "/repository",
    name: "Repository",
    fact: (s) => (s.ending ? `${s.sealed} sealed, ${s.ending} ending` : `${s.sealed} sealed`),
  },
  {
    path: "/run-sheet",
    name: "Run sheet",
    fact: (s) => (s.running ? `${s.running} running` : count(s.drafts, "draft")),
  },
  { path: "/record", name: "Record", fact: (s) => count(s.runs, "run") },
];

/** A stop on the line: its dot, its name, its fact. Joined to the next one unless it is the last. */
const Stand = styled(NavLink)(({ theme }) => ({
  position: "relative",
  flex: "1 1 0",
  minWidth: 0,
  paddingTop: theme.spacing(0.75),
  color: ink("ink"),
  textDecoration: "none",
  fontSize: 12.5,
  lineHeight: 1.35,
  [theme.breakpoints.up("md")]: { minWidth: 92, maxWidth: 150 },
  "& .dot": {
    display: "block",
    width: 12,
    height: 12,
    borderRadius: "50%",
    border: `2px solid ${ink("ink")}`,
    backgroundColor: ink("sheet"),
    position: "relative",
    zIndex: 1,
    boxSizing: "border-box",
  },
  "&.active .dot": {
    backgroundColor: ink("water"),
    borderColor: ink("water"),
    boxShadow: `0 0 0 3px ${ink("water2")}`,
  },
  "&.active .name": { color: ink("water") },
  "& .name": {
    fontFamily: fonts.title,
    fontWeight: 700,
    fontSize: 12,
    fontStretch: "80%",
    [theme.breakpoints.up("sm")]: { fontSize: 13, fontStretch: "100%" },
  },
  "& .fact": {
    display: "none",
    color: ink("ink2"),
    whiteSpace: "nowrap",
    [theme.breakpoints.up("sm")]: { display: "block" },
  },
  "&.joined::before": {
    content: '""',
    position: "absolute",
    left: 12,
    right: 0,
    top: 12,
    height: "1.5px",
    backgroundColor: ink("ink3"),
  },
}));

/** The six places in the order of the work, joined by a line, each with its one live fact. */
export function Places() {
  const { data } = useQuery(site);
  const [params] = useSearchParams();
  const kept = params.get("servers");
  return (
    <Box
      component="nav"
      aria-label="Places"
      sx={{
        display: "flex",
        flex: { xs: "1 0 100%", md: "1 1 0" },
        order: { xs: 1, md: 0 },
        minWidth: 0,
        pb: { xs: 0.5, md: 0 },
      }}
    >
      {PLACES.map((place, at) => (
        <Stand
          key={place.path}
          to={{ pathname: place.path, search: kept ? `?servers=${kept}` : "" }}
          className={at < PLACES.length - 1 ? "joined" : undefined}
        >
          <span className="dot" aria-hidden />
          <Row gap={0.75} align="baseline" noWrap pt={0.25}>
            <span className="name">{place.name}</span>
          </Row>
          <span className="fact">{data ? place.fact(data) : "\u00a0"}</span>
        </Stand>
      ))}
    </Box>
  );
}
