import Box from "@mui/material/Box";
import { styled } from "@mui/material/styles";

import type { Line, Trim } from "../api/client";
import { size } from "../shell/format";
import { Mono } from "../ui/text";
import { fonts, ink } from "../theme/theme";
import { KINDS } from "../waterline/words";
import { layOut, type Part } from "./trims";
import { Hint } from "../ui/Hint";
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
        {spare > 0.001 && <Block under style={{ flex: `${spare} 1 0px` }} />}
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

const LOOKS = {
  out: { border: `1.5px dashed ${ink("ink3")}`, backgroundColor: "transparent", color: ink("ink2") },
  back: { border: `1px solid ${ink("ahead")}`, backgroundColor: ink("rule"), color: ink("ink") },
  in: { border: `1px solid ${ink("water")}`, backgroundColor: ink("water2"), color: ink("ink") },
};

/** A kind on the scale, as wide as what it takes of it. */
const Part = styled("div", {
  shouldForwardProp: (name) => !["kind", "wide", "as"].includes(name as string),
})<{ kind: keyof typeof LOOKS; wide: boolean }>(({ theme, kind, wide }) => ({
  all: "unset",
  boxSizing: "border-box",
  minWidth: 7,
  overflow: "hidden",
  whiteSpace: "nowrap",
  padding: theme.spacing(0.5, wide ? 0.75 : 0),
  fontSize: 12.5,
  lineHeight: 1.45,
  ...LOOKS[kind],
  "button&": { cursor: "pointer" },
  "button&:hover": { boxShadow: `inset 0 -4px 0 ${ink("water")}` },
  "&:focus-visible": { outline: `2px solid ${ink("water")}`, outlineOffset: 1 },
}));

/** A medium on the ruler: where it ends. */
const Medium = styled("div")(({ theme }) => ({
  borderTop: `2px solid ${ink("ink2")}`,
  borderRight: `2px solid ${ink("ink2")}`,
  height: 20,
  fontSize: 12,
  fontFamily: fonts.text,
  color: ink("ink2"),
  padding: theme.spacing(0.25, 0.5, 0, 0),
  textAlign: "right",
  overflow: "hidden",
  whiteSpace: "nowrap",
}));

function Piece({ part: p, press }: { part: Part; press: ((trim: Trim) => void) | undefined }) {
  const wide = p.share > WIDE;
  const told = `${word(p.kind)} ${size(p.bytes)}`;
  const act = p.out ? `${told}, left out: pack it` : `${told}: leave it out`;
  const kind = p.out ? "out" : p.kind === "way back" ? "back" : "in";
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
      <Hint told={told}>
        <Part
          kind={kind}
          wide={wide}
          style={{ flex: `${p.share} 1 0px` }}
          role="img"
          aria-label={told}
          tabIndex={0}
        >
          {content}
        </Part>
      </Hint>
    );
  return (
    <Hint told={act}>
      <Part
        as="button"
        kind={kind}
        wide={wide}
        style={{ flex: `${p.share} 1 0px` }}
        aria-label={act}
        onClick={() => press(p.trim)}
      >
        {content}
      </Part>
    </Hint>
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
          <Medium key={n} style={{ flex: `0 0 ${share}%` }}>
            {media > 1 && `medium ${n + 1}: `}
            {full} % of <Mono>{size(capacity)}</Mono>
          </Medium>
        );
      })}
    </Row>
  );
}
