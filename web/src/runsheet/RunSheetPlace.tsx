import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import { useMutation, useQuery } from "@tanstack/react-query";
import { Link, useNavigate, useParams } from "react-router";

import { api, type Run, type RunSummary, take } from "../api/client";
import { runs as runsQuery } from "../api/queries";
import { run as runQuery } from "./queries";
import { clock, count, day, duration, someNames } from "../shell/format";
import { spell } from "../shell/kept";
import { Act } from "../ui/Act";
import { EmptyPlace } from "../ui/EmptyPlace";
import { Notice } from "../ui/Notice";
import { Split } from "../ui/Split";
import { Table } from "../ui/Table";
import { Tag } from "../ui/Tag";
import { Title } from "../ui/text";
import { useParam, useSelection } from "../shell/selection";
import { useSiteNow } from "../shell/time";
import { nobodyFits } from "./expected";
import { SignsKey } from "./LaneMarks";
import { NewSheet } from "./NewSheet";
import { RunOrders } from "./Orders";
import { SheetPanel } from "./SheetPanel";
import { States } from "./States";
import { Timetable } from "./Timetable";
import { Block, Row, Text } from "../ui/layout";
import { TextLink } from "../ui/links";

/** Run sheets: plan, start, watch. Without a number it lists them. */
export function RunSheetPlace() {
  const { id } = useParams();
  return id ? <Sheet id={Number(id)} /> : <Sheets />;
}

function Sheets() {
  const { data } = useQuery(runsQuery);
  const { names } = useSelection();
  const [fresh] = useParam("new");
  if (!data) return null;
  const whom = names.length ? count(names.length, "selected server") : "all servers that need something";
  const open = data.filter((r) => r.state !== "ended");
  if (!open.length || fresh) {
    return (
      <Block px={2.25}>
        <EmptyPlace
          drawing="lanes"
          title={fresh ? `A new run sheet for ${whom}` : "No run sheet is open"}
          act={<NewSheet names={names} />}
        >
          The sheet is worked out from the catalog: for each server the fewest resets that lead to the
          baseline, laid out so that servers which serve together are not away together. Nothing is touched
          until you start it.
          {names.length > 0 && (
            <Text mt={1} tone="plain">
              {someNames(names)}
            </Text>
          )}
        </EmptyPlace>
      </Block>
    );
  }
  return (
    <Split label="Run sheet">
      <Title>Open run sheets</Title>
      <Block mt={1.25} mb={2}>
        <SheetTable rows={open} />
      </Block>
      <NewSheet names={names} />
    </Split>
  );
}

function SheetTable({ rows }: { rows: RunSummary[] }) {
  return (
    <Table aria-label="Open run sheets" framed>
      <thead>
        <tr>
          <th scope="col">Sheet</th>
          <th scope="col">State</th>
          <th scope="col" className="n">
            Servers
          </th>
          <th scope="col" className="n">
            Updates
          </th>
          <th scope="col" className="n">
            Outages
          </th>
          <th scope="col" className="n">
            Expected
          </th>
          <th scope="col">Drafted by</th>
        </tr>
      </thead>
      <tbody>
        {rows.map((r) => (
          <tr key={r.id}>
            <td>
              <TextLink to={`/run-sheet/${r.id}`}>{r.name}</TextLink>
            </td>
            <td>
              <Tag tone={r.state === "running" ? "water" : "rule"}>{r.state}</Tag>
            </td>
            <td className="n">{r.count}</td>
            <td className="n">{r.updates}</td>
            <td className="n">{r.outages}</td>
            <td className="n">{duration(r.planned_seconds)}</td>
            <td>
              {r.drafted_by}, by r{r.revision}
            </td>
          </tr>
        ))}
      </tbody>
    </Table>
  );
}

function Sheet({ id }: { id: number }) {
  const { data, error } = useQuery(runQuery(id));
  const now = useSiteNow(500);
  const [picked, pick] = useParam("lane");
  if (error)
    return (
      <Block p={3}>
        <Notice>{error.message}</Notice>
      </Block>
    );
  if (!data) return null;
  return (
    <Split
      label="Run sheet"
      panel={<SheetPanel run={data} now={now} picked={picked} pick={pick} />}
      width={340}
      about={picked}
    >
      <Head run={data} now={now} />
      <Timetable run={data} now={now} picked={picked} pick={(name) => pick(name === picked ? null : name)} />
      <SignsKey />
      <Block mt={2}>
        <States run={data} />
      </Block>
    </Split>
  );
}

function Head({ run, now }: { run: Run; now: number }) {
  const resets = [
    run.outages && count(run.outages, "outage"),
    run.restarts && count(run.restarts, "controller restart"),
  ]
    .filter(Boolean)
    .join(" and ");
  return (
    <Block mb={1.25}>
      <Row gap={1.25} align="center" wrap>
        <Title>{run.name}</Title>
        <Tag
          tone={
            run.state === "running"
              ? "water"
              : run.state === "ended"
                ? run.failed
                  ? "deep"
                  : "done"
                : "rule"
          }
        >
          {run.order === "hold" && run.state === "running" ? "held" : run.state}
        </Tag>
        <Box className="no-print" sx={{ ml: { md: "auto" }, display: "flex", flexWrap: "wrap", gap: 1 }}>
          <Orders run={run} now={now} />
        </Box>
      </Row>
      <Text tone="quiet">
        {count(run.count, "server")}, {count(run.updates, "update")}, {resets || "no reset"}
        {run.by_disc
          ? " by its disc, over as many resets as that takes"
          : run.proven
            ? " (the fewest possible)"
            : run.gap
              ? ` (at most ${count(run.gap, "outage")} more than the fewest possible)`
              : " (no fewer outages are possible; the restarts were not worked out to the end)"}
        .{" "}
        {run.state === "draft"
          ? tellLength(run)
          : run.started_at &&
            `Started ${clock(new Date(run.started_at))} by ${run.started_by}${run.state === "running" ? `, planned to end ${clock(new Date(Date.parse(run.started_at) + run.planned_seconds * 1000))}` : ""}.`}{" "}
        Payloads {run.source}.
        <Windows run={run} />
      </Text>
    </Block>
  );
}

const tellLength = (run: Run): string =>
  nobodyFits(run)
    ? "Nobody fits: each is left over, with its reason."
    : `Takes about ${duration(run.planned_seconds)}; no order could take less than ${duration(run.bound_seconds)}.`;

function Windows({ run }: { run: Run }) {
  const left = run.servers.filter((lane) => !lane.plan.length && lane.detail.startsWith("Left over")).length;
  if (!run.windows.length) return null;
  const told = run.windows.map((w) => {
    const [start, end] = [new Date(w.start), new Date(w.end)];
    return `${w.name ? `${w.name}, ` : ""}${day(start)} ${clock(start)} to ${clock(end)}`;
  });
  return (
    <>
      {" "}
      Window: {told.join("; ")}
      {left > 0 && `; ${count(left, "server")} left over`}.
    </>
  );
}

/** Nothing is reset before the window opens, whenever it is started; nothing begins but what may be written ahead. */
function whenOf(run: Run, now: number): string {
  const opens = run.windows[0] ? new Date(run.windows[0].start) : null;
  if (!opens || opens.getTime() <= now) return "now";
  const from = `from ${day(opens)} ${clock(opens)} on`;
  return run.ahead === "writing" ? `now, reset ${from}` : from;
}

/** Start, throw away; hold, go on, stop: each says what it will do. */
function Orders({ run, now }: { run: Run; now: number }) {
  const navigate = useNavigate();
  const path = { params: { path: { id: run.id } } };
  const start = useMutation({ mutationFn: () => take(api.POST("/api/v1/runs/{id}/start", path)) });
  const drop = useMutation({
    mutationFn: () => take(api.DELETE("/api/v1/runs/{id}", path)),
    onSuccess: () => void navigate("/run-sheet"),
  });
  const lacking = run.missing.length
    ? `Not packed yet: ${run.missing
        .map((m) => `${m.product} ${m.version}`)
        .slice(0, 3)
        .join(", ")}${run.missing.length > 3 ? ` and ${run.missing.length - 3} more` : ""}`
    : null;
  const trouble = start.error ?? drop.error;
  return (
    <>
      {trouble && <Notice>{trouble.message}</Notice>}
      {run.state === "draft" && (
        <>
          <Act
            takes="run"
            variant="contained"
            why={lacking}
            onClick={() => start.mutate()}
            loading={start.isPending}
          >
            Start: update {count(run.count, "server")} {whenOf(run, now)}
          </Act>
          {lacking && (
            <Button
              variant="outlined"
              onClick={() =>
                void navigate(`/repository?new=1&servers=${spell(run.servers.map((s) => s.server))}`)
              }
            >
              Pack them
            </Button>
          )}
          <Act takes="plan" variant="outlined" onClick={() => drop.mutate()}>
            Throw away
          </Act>
        </>
      )}
      {run.state === "running" && run.order !== "stop" && <RunOrders run={run} now={now} />}
      {run.state === "running" && run.order === "stop" && (
        <Tag tone="deep">stopping after the present steps</Tag>
      )}
      {run.state === "ended" && (
        <Button component={Link} to={`/record/${run.id}`} variant="contained">
          Open its record
        </Button>
      )}
    </>
  );
}
