import Box from "@mui/material/Box";

import type { Cell } from "../api/client";
import { Glyph } from "./Glyph";
import { tellCell } from "./words";
import { Row } from "../ui/layout";
import { MarkList } from "../ui/MarkList";

/** A server as a fixed row: F M R N D P, then what else it has. The place never changes. */
export function GlyphRow({ cells, scale = 1, gap = 7 }: { cells: Cell[]; scale?: number; gap?: number }) {
  const told = cells.map(tellCell).join("; ");
  return (
    <Box
      component="span"
      role="img"
      aria-label={told}
      title={told.replaceAll("; ", "\n")}
      sx={{ display: "inline-flex", gap: `${gap}px`, alignItems: "center" }}
    >
      {cells.map((cell) => (
        <Glyph key={cell.kind} verdict={cell.verdict} behind={cell.behind} scale={scale} />
      ))}
    </Box>
  );
}

const LEGEND: [string, number, string][] = [
  ["level", 0, "on the baseline"],
  ["behind", 2, "behind, deeper is older"],
  ["exposed", 2, "security fix missing"],
  ["pending", 2, "waits for a reset"],
  ["ahead", 0, "ahead"],
  ["held", 0, "held"],
  ["unlisted", 0, "in no catalog"],
  ["unread", 0, "not read"],
];

/** What the marks mean, on one line. */
export function Legend() {
  return (
    <MarkList aria-label="Legend">
      {LEGEND.map(([verdict, behind, words]) => (
        <Row as="li" key={verdict} align="center" gap={0.75} noWrap>
          <Glyph verdict={verdict} behind={behind} />
          {words}
        </Row>
      ))}
    </MarkList>
  );
}
