import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import { useState } from "react";

import type { Run, RunServer } from "../api/client";
import { count, someNames } from "../shell/format";
import { usePrinting } from "../shell/printing";
import { Table } from "../ui/Table";
import { Tag } from "../ui/Tag";
import { foldPlans, foldStates, type Stand, tellWrites } from "./folded";
import { Text } from "../ui/layout";

/** The timetable again as a table: the plan before, the state of each server from the start on. */
export function States({ run }: { run: Run }) {
  return run.state === "draft" ? <WhatWillBeDone run={run} /> : <WhatIsDone run={run} />;
}

/** The plan as a document: the rounds in order, once for all servers that get the same. */
function WhatWillBeDone({ run }: { run: Run }) {
  return (
    <Table aria-label="What will be done">
      <thead>
        <tr>
          <th scope="col">Server</th>
          <th scope="col">Serves in</th>
          <th scope="col">Rounds in order</th>
        </tr>
      </thead>
      <tbody>
        {foldPlans(run.servers).map((lanes) => (
          <Planned key={lanes[0]?.server} lanes={lanes} />
        ))}
      </tbody>
    </Table>
  );
}

const NAMES = 6;

function Planned({ lanes }: { lanes: RunServer[] }) {
  const [first] = lanes;
  const most = usePrinting() ? Infinity : NAMES;
  const groups = [...new Set(lanes.map((lane) => lane.group).filter(Boolean))];
  if (!first) return null;
  return (
    <tr>
      <Box component="td" sx={{ maxWidth: 220 }}>
        <strong>
          {someNames(
            lanes.map((lane) => lane.server),
            most,
          )}
        </strong>
      </Box>
      <td>{groups.length ? someNames(groups, 3) : "–"}</td>
      <td>
        {first.rounds.map((round, at) => (
          <Box key={at} component="span" sx={{ mr: 1.5, display: "inline-block" }}>
            <Text as="span" tone="quiet">
              {at + 1}.
            </Text>{" "}
            {tellWrites(round.writes) || "nothing to write"}
            {round.reset && <strong>, {round.reset}</strong>}
          </Box>
        ))}
        {!first.rounds.length && (
          <Text as="span" tone="quiet">
            {first.detail}
          </Text>
        )}
        {first.hands.map((h) => (
          <Box key={h.when + h.slot}>
            By hand, {h.when} {h.slot} {h.to}: {h.what}
          </Box>
        ))}
        {first.overrides.map((o) => (
          <Box key={o.check}>
            The {o.check} check is overridden: {o.reason}
          </Box>
        ))}
      </td>
    </tr>
  );
}

/** So many of those that need nobody's eyes are told before the rest is folded. */
const SHOWN: Record<Stand, number> = { "needs a person": Infinity, "under way": 40, waiting: 16, done: 16 };

/** Each server's state: first what needs a person; what waits and what is done folds. */
function WhatIsDone({ run }: { run: Run }) {
  const [opened, open] = useState<ReadonlySet<Stand>>(new Set());
  const isPrinting = usePrinting();
  return (
    <Table aria-label="State of each server">
      <thead>
        <tr>
          <th scope="col">Server</th>
          <th scope="col">State</th>
          <th scope="col">What</th>
          <th scope="col" className="n">
            Done
          </th>
        </tr>
      </thead>
      {foldStates(run.servers).map(({ stand, lanes }) => {
        const most = opened.has(stand) || isPrinting ? Infinity : SHOWN[stand];
        return (
          <tbody key={stand}>
            {lanes.slice(0, most).map((lane) => (
              <State key={lane.server} lane={lane} />
            ))}
            {lanes.length > most && (
              <tr>
                <td colSpan={4}>
                  {count(lanes.length - most, "more server")} {stand}{" "}
                  <Button onClick={() => open(new Set([...opened, stand]))}>Show them</Button>
                </td>
              </tr>
            )}
          </tbody>
        );
      })}
    </Table>
  );
}

const toneOf = (lane: RunServer) => {
  if (lane.ended === "failed" || lane.question) return "deep";
  if (lane.ended === "waits for a reboot") return "pending";
  if (lane.ended) return "done";
  return lane.state === "waiting" ? "rule" : "water";
};

function State({ lane }: { lane: RunServer }) {
  return (
    <tr>
      <td>
        <strong>{lane.server}</strong>
      </td>
      <td>
        <Tag tone={toneOf(lane)}>{lane.ended || (lane.question ? "asks" : lane.state)}</Tag>
      </td>
      <td>{lane.reason || lane.detail}</td>
      <td className="n">{typeof lane.percent === "number" ? `${lane.percent} %` : ""}</td>
    </tr>
  );
}
