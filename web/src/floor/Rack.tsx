import Box from "@mui/material/Box";
import { type KeyboardEvent, type MouseEvent, useEffect, useRef } from "react";

import type { Server } from "../api/client";
import { fonts, ink } from "../theme/theme";
import { GlyphRow } from "../waterline/GlyphRow";
import { nextName, span, top, UNITS, walk } from "./layout";

/** One unit in pixels: 42 of them fit a screen 800 high. */
const UNIT_PX = 13.5;

interface Props { rack: string; servers: Server[]; selected: string[]; select: (names: string[]) => void }

/** What the keys and the mouse do in a rack. One tab stop; arrows inside. */
function useRack({ rack, servers, selected, select }: Props) {
  const order = walk(servers, rack).map((s) => s.name);
  // Keys may come faster than the address changes: what was chosen last is kept here.
  const latest = useRef(selected);
  const anchor = useRef<string | null>(null);
  useEffect(() => {
    latest.current = selected;
  }, [selected]);
  const choose = (names: string[]) => {
    latest.current = names;
    select(names);
  };
  const extend = (to: string) => {
    const from = anchor.current && order.includes(anchor.current) ? anchor.current : to;
    choose([...span(order, from, to).filter((n) => n !== to), to]);
  };
  const pick = (name: string, shift: boolean, add: boolean) => {
    if (shift && latest.current.length) return extend(name);
    anchor.current = name;
    const others = latest.current.filter((n) => n !== name);
    choose(!add ? [name] : latest.current.includes(name) ? others : [...others, name]);
  };
  const onKeyDown = (event: KeyboardEvent) => {
    if (event.key === "a") choose(order);
    else if (event.key === "Escape") choose([]);
    else if (["ArrowUp", "ArrowDown", "Home", "End"].includes(event.key)) {
      const next = nextName(order, latest.current.at(-1) ?? null, event.key);
      if (next) pick(next, event.shiftKey, false);
    } else return;
    event.preventDefault();
  };
  const onClick = (name: string) => (event: MouseEvent) => pick(name, event.shiftKey, event.ctrlKey || event.metaKey);
  return { active: selected.at(-1) ?? null, onKeyDown, onClick };
}

/** A rack to scale: every unit has its place, so that the person finds it on the aisle. */
export function Rack(props: Props) {
  const { rack, servers, selected } = props;
  const { active, onKeyDown, onClick } = useRack(props);
  const mine = walk(servers, rack);
  return (
    <Box sx={{ width: 300, flex: "none" }}>
      <Box sx={{ display: "flex", justifyContent: "space-between", fontSize: 13, mb: 0.5 }}>
        <Box component="h2" sx={{ fontFamily: fonts.title, fontSize: 14, m: 0 }}>{rack || "No rack named"}</Box>
        <Box sx={{ color: "text.secondary", display: "flex", gap: "15px", pr: "9px", fontFamily: fonts.title, fontWeight: 700, fontSize: 11.5 }} aria-hidden>
          {["F", "M", "R", "N", "D", "P", ""].map((letter, at) => <Box key={at} sx={{ width: 6, textAlign: "center" }}>{letter}</Box>)}
        </Box>
      </Box>
      <Box
        role="listbox" aria-label={`Rack ${rack}`} aria-multiselectable tabIndex={0} onKeyDown={onKeyDown}
        aria-activedescendant={active ? `unit-${active}` : undefined}
        sx={{
          position: "relative", height: UNITS * UNIT_PX, border: `1.5px solid ${ink("ink")}`, borderRadius: 0.75, bgcolor: "background.paper",
          backgroundImage: `repeating-linear-gradient(to bottom, transparent 0 ${UNIT_PX - 1}px, ${ink("rule")} ${UNIT_PX - 1}px ${UNIT_PX}px)`, backgroundSize: "100% 100%",
        }}
      >
        {mine.map((server) => (
          <Unit key={server.name} server={server} chosen={selected.includes(server.name)} onClick={onClick(server.name)} />
        ))}
      </Box>
    </Box>
  );
}

function Unit({ server, chosen, onClick }: { server: Server; chosen: boolean; onClick: (event: MouseEvent) => void }) {
  return (
    <Box
      id={`unit-${server.name}`} role="option" aria-selected={chosen} onClick={onClick}
      sx={{
        position: "absolute", left: 0, right: 0, top: top(server) * UNIT_PX, height: server.height * UNIT_PX, display: "flex", alignItems: "center", px: 1,
        cursor: "pointer", fontSize: 12, bgcolor: chosen ? ink("water2") : "background.paper", outline: chosen ? `1.5px solid ${ink("water")}` : "none", outlineOffset: -1.5,
        borderBottom: `1px solid ${ink("rule")}`, "&:hover": { bgcolor: ink("water2") },
      }}
    >
      <Box sx={{ color: "text.secondary", width: 22, fontFamily: fonts.mono, fontSize: 10.5 }}>{server.unit}</Box>
      <Box sx={{ fontWeight: 550, flex: 1, whiteSpace: "nowrap" }}>
        {server.name}
        {server.failure && <Box component="span" sx={{ color: ink("deep"), ml: 0.75 }}>{server.failure.cause}</Box>}
        {server.running && <Box component="span" sx={{ color: ink("water"), ml: 0.75 }}>in a run</Box>}
      </Box>
      <GlyphRow cells={server.cells} scale={0.78} gap={9} />
      {server.cells.length < 7 && <Box sx={{ width: 20 }} />}
    </Box>
  );
}
