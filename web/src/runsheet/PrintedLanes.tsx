import Box from "@mui/material/Box";

import type { Run } from "../api/client";
import { Block, Row, Text } from "../ui/layout";
import { Title } from "../ui/text";
import { Axis } from "./Axis";
import { tellRounds } from "./folded";
import type { Scale } from "./timescale";
import { LANE, LaneRow, RIGHT } from "./TimetableRow";

/** Servers on one sheet of paper. */
const ON_A_PAGE = 20;
const LEFT = 108;
/** The width of the time axis on paper, in pixels of CSS: A4 upright, less its margins and the names. */
export const PRINTED_WIDTH = 580;

interface Props {
  run: Run;
  scale: Scale;
  start: number | null;
  at: number;
  isRunning: boolean;
}

/** Every lane on paper with what is done in it, 20 to a page, each page with its title and its time axis. */
export function PrintedLanes({ run, scale, start, at, isRunning }: Props) {
  const pages = Array.from({ length: Math.ceil(run.servers.length / ON_A_PAGE) }, (_, page) =>
    run.servers.slice(page * ON_A_PAGE, (page + 1) * ON_A_PAGE),
  );
  return pages.map((lanes, page) => (
    <Box
      key={page}
      sx={{ breakInside: "avoid", breakAfter: page < pages.length - 1 ? "page" : "auto", pb: 2 }}
    >
      <Title level={2}>
        {run.name}, page {page + 1} of {pages.length}
      </Title>
      <Axis scale={scale} start={start} left={LEFT} width={PRINTED_WIDTH} />
      {lanes.map((lane) => (
        <Block key={lane.server} under style={{ width: LEFT + PRINTED_WIDTH + RIGHT }}>
          <Row style={{ height: LANE }}>
            <LaneRow
              lane={lane}
              indent={false}
              left={LEFT}
              width={PRINTED_WIDTH}
              {...{ scale, at, isRunning }}
            />
          </Row>
          <Text size="fine" tone="quiet" pl={1.25}>
            {[lane.room, lane.rack].filter(Boolean).join(" ")}: {tellRounds(lane)}
          </Text>
        </Block>
      ))}
    </Box>
  ));
}
