import Button from "@mui/material/Button";
import { styled } from "@mui/material/styles";
import { useQuery } from "@tanstack/react-query";

import { fonts, ink } from "../theme/theme";
import { Hint } from "../ui/Hint";
import { Block, Row, Text } from "../ui/layout";
import { dayAfter, type Night, nightsOf, type Piece, tellOpening } from "./nights";
import { openings as openingsQuery } from "./queries";

const HOURS = [12, 15, 18, 21, 0, 3, 6, 9, 12];

const Sheet = styled("div")({
  "--names": "150px",
  border: `1px solid ${ink("ink")}`,
  backgroundColor: ink("sheet"),
  // On a phone the bar is a sign; what it says stands in the list below.
  "@media (max-width: 600px)": { "--names": "92px", "& .times": { display: "none !important" } },
});

const Hours = styled("div")({
  position: "relative",
  height: 22,
  marginLeft: "var(--names)",
  marginRight: 14,
  borderBottom: `1px solid ${ink("ink")}`,
  fontFamily: fonts.mono,
  fontSize: 11.5,
  color: ink("ink2"),
  "& span": { position: "absolute", top: 3, transform: "translateX(-50%)" },
});

const NightRow = styled("li")({
  display: "flex",
  minHeight: 40,
  borderBottom: `1px solid ${ink("rule")}`,
  "&:last-child": { borderBottom: 0 },
  "& .name": { width: "var(--names)", flex: "none", padding: "10px", fontSize: 12.5 },
  "& .today": { fontWeight: 700, color: ink("water") },
  "& .room": {
    position: "relative",
    flex: 1,
    marginRight: 14,
    // The dark hours: between ten and six nobody is missed.
    background: `linear-gradient(to right, transparent 41.6%, ${ink("paper")} 41.6%, ${ink("paper")} 75%, transparent 75%)`,
  },
  "& .midnight": {
    position: "absolute",
    left: "50%",
    top: 0,
    bottom: 0,
    borderLeft: `1px dashed ${ink("rule")}`,
  },
});

/** A window: open at both ends where it goes on into the next night. */
const Bar = styled("button")({
  all: "unset",
  boxSizing: "border-box",
  position: "absolute",
  top: 3,
  bottom: 3,
  padding: "1px 7px",
  overflow: "hidden",
  whiteSpace: "nowrap",
  textOverflow: "ellipsis",
  cursor: "pointer",
  fontSize: 12.5,
  fontWeight: 650,
  color: ink("ink"),
  backgroundColor: ink("water2"),
  borderLeft: `3px solid ${ink("water")}`,
  borderRight: `3px solid ${ink("water")}`,
  lineHeight: 1.25,
  "& .times": {
    display: "block",
    fontWeight: 400,
    fontSize: 11.5,
    overflow: "hidden",
    textOverflow: "ellipsis",
  },
  "&:hover, &[aria-pressed=true]": { outline: `1.5px solid ${ink("water")}` },
  "&:focus-visible": { outline: `2px solid ${ink("water")}`, outlineOffset: 1 },
});

interface Props {
  first: string;
  zone: string;
  today: string;
  go: (week: string | null) => void;
  chosen: string | null;
  choose: (name: string) => void;
}

/** A week, night by night from noon to noon, with what is open when. */
export function Week({ first, zone, today, go, chosen, choose }: Props) {
  // A day more on either side: which instants are noon is the zone's business.
  const span = [dayAfter(first, -1), dayAfter(first, 9)].map((day) => `${day}T00:00:00Z`) as [string, string];
  const { data = [] } = useQuery(openingsQuery(...span));
  const nights = nightsOf(first, data, zone);
  return (
    <Block mt={1}>
      <Row gap={0.5} align="baseline" mb={0.5} wrap>
        <Text size="body" strong noWrap>
          {tellDay(first)} to {tellDay(dayAfter(first, 7))}
        </Text>
        <Row ml="auto" gap={0.5}>
          <Button variant="text" onClick={() => go(dayAfter(first, -7))}>
            Week before
          </Button>
          <Button variant="text" onClick={() => go(null)}>
            This week
          </Button>
          <Button variant="text" onClick={() => go(dayAfter(first, 7))}>
            Week after
          </Button>
        </Row>
      </Row>
      <Sheet>
        <Hours aria-hidden>
          {HOURS.map((hour, at) => (
            <span key={at} style={{ left: `${(at / (HOURS.length - 1)) * 100}%` }}>
              {String(hour).padStart(2, "0")}
            </span>
          ))}
        </Hours>
        <Block as="ul" plain m={0} p={0} aria-label="Nights of the week">
          {nights.map((night) => (
            <OneNight key={night.day} {...{ night, zone, today, chosen, choose }} />
          ))}
        </Block>
      </Sheet>
    </Block>
  );
}

const tellDay = (day: string): string =>
  new Date(`${day}T12:00:00Z`).toLocaleDateString("en-GB", {
    weekday: "short",
    day: "numeric",
    month: "short",
    timeZone: "UTC",
  });

function OneNight({
  night,
  zone,
  today,
  chosen,
  choose,
}: Pick<Props, "zone" | "today" | "chosen" | "choose"> & { night: Night }) {
  return (
    <NightRow>
      <div className={night.day === today ? "name today" : "name"}>
        {tellDay(night.day)}
        {night.day === today && ", tonight"}
      </div>
      <div className="room">
        <div className="midnight" aria-hidden />
        {night.pieces.map((piece) => (
          <Hint key={piece.opening.window + piece.opening.start} told={tellOpening(piece.opening, zone)}>
            <Bar
              aria-pressed={piece.opening.window === chosen}
              style={placeOf(piece)}
              onClick={() => choose(piece.opening.window)}
            >
              {piece.opening.window}
              <span className="times">
                {tellOpening(piece.opening, zone).slice(piece.opening.window.length + 2)}
              </span>
            </Bar>
          </Hint>
        ))}
      </div>
    </NightRow>
  );
}

const placeOf = ({ left, right, goesOn }: Piece) => ({
  left: `${left * 100}%`,
  width: `${(right - left) * 100}%`,
  ...(goesOn && left === 0 ? { borderLeft: 0 } : {}),
  ...(goesOn && right === 1 ? { borderRight: 0 } : {}),
});
