import Box from "@mui/material/Box";
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
        <Box
          component={NavLink}
          key={place.path}
          to={{ pathname: place.path, search: kept ? `?servers=${kept}` : "" }}
          sx={{
            position: "relative",
            flex: "1 1 0",
            minWidth: { xs: 0, md: 92 },
            maxWidth: { xs: "none", md: 150 },
            pt: 0.75,
            color: "text.primary",
            textDecoration: "none",
            fontSize: 12.5,
            lineHeight: 1.35,
            "& .dot": {
              width: 12,
              height: 12,
              borderRadius: "50%",
              border: `2px solid ${ink("ink")}`,
              bgcolor: "background.paper",
              position: "relative",
              zIndex: 1,
            },
            "&.active .dot": {
              bgcolor: ink("water"),
              borderColor: ink("water"),
              boxShadow: `0 0 0 3px ${ink("water2")}`,
            },
            "&.active .name": { color: ink("water") },
            "&::before":
              at < PLACES.length - 1
                ? {
                    content: '""',
                    position: "absolute",
                    left: 12,
                    right: 0,
                    top: 12,
                    height: "1.5px",
                    bgcolor: ink("ink3"),
                  }
                : {},
          }}
        >
          <Box className="dot" aria-hidden />
          <Row gap={0.75} align="baseline" noWrap pt={0.25}>
            <Box
              component="span"
              className="name"
              sx={{
                fontFamily: fonts.title,
                fontWeight: 700,
                fontSize: { xs: 12, sm: 13 },
                fontStretch: { xs: "80%", sm: "100%" },
              }}
            >
              {place.name}
            </Box>
          </Row>
          <Box sx={{ color: "text.secondary", whiteSpace: "nowrap", display: { xs: "none", sm: "block" } }}>
            {data ? place.fact(data) : "\u00a0"}
          </Box>
        </Box>
      ))}
    </Box>
  );
}
