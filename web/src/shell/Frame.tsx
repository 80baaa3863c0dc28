import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import { styled, useColorScheme } from "@mui/material/styles";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link, Outlet } from "react-router";

import { api, take } from "../api/client";
import { useLive } from "../api/live";
import { me, site } from "../api/queries";
import { fonts, ink } from "../theme/theme";
import { Key } from "../ui/Key";
import { Text } from "../ui/layout";
import { TextLink } from "../ui/links";
import { Mono } from "../ui/text";
import { clock, day, tellWindow } from "./format";
import { Find } from "./Find";
import { KeptSelection } from "./KeptSelection";
import { later } from "./later";
import { Places } from "./Places";
import { useSiteNow } from "./time";
import { RefusedLine } from "./RefusedLine";
import { WorkBar } from "./WorkBar";

const KeysDialog = later(async () => (await import("./KeysDialog")).KeysDialog);

const isTyping = (target: EventTarget | null): boolean =>
  target instanceof HTMLElement &&
  (target.isContentEditable || ["INPUT", "TEXTAREA", "SELECT"].includes(target.tagName));

type Sheet = "find" | "work" | "keys" | null;

/** The keys that work everywhere. */
function useFrameKeys(open: (sheet: Sheet) => void): void {
  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      if (isTyping(event.target) || event.ctrlKey || event.metaKey || event.altKey) return;
      const sheet = ({ "/": "find", w: "work", "?": "keys" } as Record<string, Sheet>)[event.key];
      if (!sheet) return;
      event.preventDefault();
      open(sheet);
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, [open]);
}

function Now() {
  const now = useSiteNow();
  const { data } = useQuery(site);
  const time = new Date(now);
  return (
    <Box sx={{ whiteSpace: "nowrap", display: { xs: "none", md: "block" } }}>
      <Text size="note" strong>
        <Mono>
          {day(time)} {clock(time)}
        </Mono>
      </Text>
      <Text size="note" tone="quiet">
        <TextLink to="/house" title={data ? tellRate(data.rate) : ""}>
          {data ? tellWindow(data.window, now) : "House"}
        </TextLink>
      </Text>
    </Box>
  );
}

const tellRate = (rate: number): string =>
  rate === 1 ? "The site's time. What the house has decided" : `The clock runs ${rate} × as fast`;

function Scheme() {
  const { mode, systemMode, setMode } = useColorScheme();
  const night = (mode === "system" ? systemMode : mode) === "dark";
  return (
    <Button variant="text" color="inherit" onClick={() => setMode(night ? "light" : "dark")}>
      {night ? "Paper" : "Night shift"}
    </Button>
  );
}

function Who() {
  const { data } = useQuery(me);
  return (
    <Button
      variant="text"
      color="inherit"
      component={Link}
      to="/people"
      title="People, your password and your sessions"
    >
      {data?.name}
    </Button>
  );
}

function Leave() {
  const queries = useQueryClient();
  const leave = async () => {
    await take(api.POST("/api/v1/sign-out"));
    queries.clear();
    window.location.assign("/");
  };
  return (
    <Button variant="text" color="inherit" onClick={() => void leave()}>
      Sign out
    </Button>
  );
}

const Top = styled("header")(({ theme }) => ({
  display: "flex",
  alignItems: "center",
  // A phone has the places in a line of their own, all six of them.
  flexWrap: "wrap",
  columnGap: theme.spacing(0.5),
  padding: theme.spacing(0, 2.25),
  minHeight: 62,
  backgroundColor: ink("sheet"),
  borderBottom: `1px solid ${ink("ink")}`,
  "& .MuiButton-root": { padding: theme.spacing(0.625, 0.75), minWidth: 0 },
  [theme.breakpoints.up("sm")]: { "& .MuiButton-root": { padding: theme.spacing(0.625, 1.5) } },
  [theme.breakpoints.up("md")]: { flexWrap: "nowrap", columnGap: theme.spacing(3) },
}));

const Name = styled("div")({ fontFamily: fonts.title, fontWeight: 800, fontStretch: "125%", fontSize: 20 });

/** Top: the places. Bottom: work under way. Between: the place. */
export function Frame() {
  const [sheet, setSheet] = useState<Sheet>(null);
  const live = useLive();
  useFrameKeys(setSheet);
  return (
    <Box
      sx={{
        display: "grid",
        gridTemplateRows: "auto minmax(0,1fr) auto",
        gridTemplateColumns: "minmax(0,1fr)",
        // With the browser's own bars a phone shows less than 100vh.
        height: "100dvh",
        "@media print": { display: "block", height: "auto" },
      }}
    >
      <Top className="no-print">
        <Name>Ordnung</Name>
        <Places />
        <Button variant="text" color="inherit" onClick={() => setSheet("find")} sx={{ gap: 1, px: 1 }}>
          Find or do{" "}
          <Box component="span" sx={{ display: { xs: "none", sm: "inline" } }}>
            <Key>/</Key>
          </Box>
        </Button>
        <Now />
        <Box sx={{ display: "flex", ml: { xs: "auto", md: 0 } }}>
          <Box sx={{ display: { xs: "none", sm: "block" } }}>
            <Scheme />
          </Box>
          <Who />
          <Leave />
        </Box>
      </Top>
      <Box
        component="main"
        sx={{
          position: "relative",
          minHeight: 0,
          overflow: { xs: "auto", md: "hidden" },
          "@media print": { overflow: "visible" },
        }}
      >
        <KeptSelection>
          <Outlet />
        </KeptSelection>
      </Box>
      <RefusedLine />
      <WorkBar open={sheet === "work"} setOpen={(open) => setSheet(open ? "work" : null)} live={live} />
      <Find open={sheet === "find"} close={() => setSheet(null)} />
      <KeysDialog open={sheet === "keys"} close={() => setSheet(null)} />
    </Box>
  );
}
