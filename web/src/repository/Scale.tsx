import Box from "@mui/material/Box";

import type { Line, Trim } from "../api/client";
import { size } from "../shell/format";
import { Mono } from "../ui/text";
import { fonts, ink } from "../theme/theme";
import { KINDS } from "../waterline/words";
import { layOut, type Part } from "./trims";
import { Block, Row, Text } from "../ui/layout";

const word = (kind: string): string =>
  kind === "controller" ? "Controller" : kind === "way back" ? "Ways back" : (KINDS[kind] ?? kind);

/** From this share on a piece has room for its own label. */
const WIDE = 0.085;

interface Props {
  lines: Line[];
  capacity: number | null;
  filled: number[];
  press?: (trim: Trim) => void;
}

/** What is packed, drawn to the scale of what it has to fit on. Each piece leaves itself out, or comes back. */
export function Scale({ lines, capacity, filled, press }: Props) {
  const media = Math.max(1, filled.length);
  const room = capacity ? capacity * media : 0;
  const parts = layOut(lines, room);
  if (!parts.length) return null;
  const spare = 1 - parts.reduce((n, p) => n + p.share, 0);
  const narrow = parts.filter((p) => p.share <= WIDE);
  return (
    <Block mb={1.75}>
      <Box role="group" aria-label="Sizes by kind" sx={{ display: "flex", gap: "2px", height: 50 }}>
        {parts.map((p) => (
          <Piece key={`${p.out} ${p.kind}`} part={p} press={press} />
        ))}
        {spare > 0.001 && <Box sx={{ flex: `${spare} 1 0px`, borderBottom: `1px solid ${ink("rule")}` }} />}
      </Box>
      {capacity !== null && (
        <Ruler
          media={media}
          capacity={capacity}
          filled={filled}
          total={Math.max(
            room,
            parts.reduce((n, p) => n + p.bytes, 0),
          )}
        />
      )}
      {narrow.length > 0 && (
        <Text aria-hidden size="fine" tone="quiet" mt={0.25}>
          narrow, from the left:{" "}
          {narrow.map((p) => `${word(p.kind)} ${p.out ? "−" : ""}${size(p.bytes)}`).join(", ")}
        </Text>
      )}
    </Block>
  );
}

function Piece({ part: p, press }: { part: Part; press: ((trim: Trim) => void) | undefined }) {
  const wide = p.share > WIDE;
  const told = `${word(p.kind)} ${size(p.bytes)}`;
  const act = p.out ? `${told}, left out: pack it` : `${told}: leave it out`;
  const back = p.kind === "way back";
  const look = p.out
    ? { border: `1.5px dashed ${ink("ink3")}`, bgcolor: "transparent", color: "text.secondary" }
    : {
        border: `1px solid ${back ? ink("ahead") : ink("water")}`,
        bgcolor: back ? ink("rule") : ink("water2"),
        color: "text.primary",
      };
  const sx = {
    all: "unset",
    boxSizing: "border-box",
    flex: `${p.share} 1 0px`,
    minWidth: 7,
    overflow: "hidden",
    whiteSpace: "nowrap",
    px: wide ? 0.75 : 0,
    py: 0.5,
    fontSize: 12.5,
    lineHeight: 1.45,
    ...look,
    ...(press
      ? {
          cursor: "pointer",
          "&:hover": { boxShadow: `inset 0 -4px 0 ${ink("water")}` },
          "&:focus-visible": { outline: `2px solid ${ink("water")}`, outlineOffset: 1 },
        }
      : {}),
  } as const;
  const content = wide && (
    <>
      <strong>{word(p.kind)}</strong>
      <br />
      <Mono>
        {p.out ? "−" : ""}
        {size(p.bytes)}
      </Mono>
    </>
  );
  if (!press)
    return (
      <Box role="img" aria-label={told} title={told} sx={sx}>
        {content}
      </Box>
    );
  return (
    <Box component="button" aria-label={act} title={act} onClick={() => press(p.trim)} sx={sx}>
      {content}
    </Box>
  );
}

/** Where each medium ends, and how full it is. */
function Ruler({
  media,
  capacity,
  filled,
  total,
}: {
  media: number;
  capacity: number;
  filled: number[];
  total: number;
}) {
  const share = (capacity / total) * 100;
  return (
    <Row mt={0.5}>
      {Array.from({ length: media }, (_, n) => {
        const used = filled[n] ?? 0;
        const full = Math.round((100 * used) / capacity);
        return (
          <Box
            key={n}
            sx={{
              flex: `0 0 ${share}%`,
              borderTop: `2px solid ${ink("ink2")}`,
              borderRight: `2px solid ${ink("ink2")}`,
              height: 20,
              fontSize: 12,
              fontFamily: fonts.text,
              color: "text.secondary",
              pt: 0.25,
              pr: 0.5,
              textAlign: "right",
              overflow: "hidden",
              whiteSpace: "nowrap",
            }}
          >
            {media > 1 && `medium ${n + 1}: `}
            {full} % of <Mono>{size(capacity)}</Mono>
          </Box>
        );
      })}
    </Row>
  );
}
