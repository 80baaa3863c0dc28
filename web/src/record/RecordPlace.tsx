import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import { styled } from "@mui/material/styles";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";

import { api, type RunRecord, type RunSummary, take } from "../api/client";
import { record as recordQuery, runsPage } from "./queries";
import { clock, count, day } from "../shell/format";
import { Act } from "../ui/Act";
import { EmptyPlace } from "../ui/EmptyPlace";
import { More } from "../ui/More";
import { Notice } from "../ui/Notice";
import { Split } from "../ui/Split";
import { Tag } from "../ui/Tag";
import { Title } from "../ui/text";
import { ink } from "../theme/theme";
import { ActionBar } from "../ui/ActionBar";
import { Block, Row, Text } from "../ui/layout";
import { WayTo } from "../ui/links";
import { CarriedIn, useCarry } from "./CarriedIn";
import { Files } from "./Files";
import { People } from "./People";
import { Servers } from "./Servers";
import { Summary } from "./Summary";

/** What was done, with before and after, and the way back of each update. */
export function RecordPlace() {
  const { id } = useParams();
  const [limit, setLimit] = useState(100);
  const carry = useCarry();
  const { data } = useQuery(runsPage(limit));
  if (!data) return null;
  const ended = data.rows.filter((r) => r.state !== "draft");
  const shown = id ? Number(id) : ended[0]?.id;
  if (shown === undefined) {
    return (
      <EmptyPlace
        drawing="rows"
        title="Nothing on record yet"
        act={
          <ActionBar>
            <Button component={Link} to="/run-sheet" variant="contained">
              Go to the Run sheet
            </Button>
            <Button component={Link} to="/record/trail" variant="outlined">
              Audit trail
            </Button>
            <Button component={Link} to="/record/months" variant="outlined">
              Over months
            </Button>
            <CarriedIn carry={carry} />
          </ActionBar>
        }
      >
        Every run is kept here with its before and after, who started it, and what can be taken back.
      </EmptyPlace>
    );
  }
  return (
    <Box
      sx={{
        display: "grid",
        gridTemplateColumns: { xs: "1fr", md: "270px minmax(0,1fr)" },
        height: { md: "100%" },
      }}
    >
      <Runs tabIndex={0} aria-label="Runs">
        <Title level={2}>Record</Title>
        <div>
          <WayTo to="/record/trail">Audit trail: who did what</WayTo>
        </div>
        <div>
          <WayTo to="/record/months">Over months: drift, exposures, failures</WayTo>
        </div>
        <Block mt={1}>
          <CarriedIn carry={carry} />
        </Block>
        {ended.map((r) => (
          <RunLink key={r.id} run={r} current={r.id === shown} />
        ))}
        <More shown={data.rows.length} total={data.total} more={() => setLimit(limit * 5)} />
      </Runs>
      <Shown id={shown} />
    </Box>
  );
}

const Runs = styled("nav")(({ theme }) => ({
  padding: theme.spacing(1.5, 2),
  overflow: "auto",
  borderRight: `1px solid ${ink("rule")}`,
}));

const OneRun = styled(Link)(({ theme }) => ({
  display: "block",
  color: ink("ink"),
  textDecoration: "none",
  padding: theme.spacing(1, 0, 1, 1.25),
  marginTop: theme.spacing(0.5),
  borderLeft: "3px solid transparent",
  borderBottom: `1px solid ${ink("rule")}`,
  "&[aria-current]": { borderLeftColor: ink("water"), backgroundColor: ink("sheet") },
}));

function RunLink({ run, current }: { run: RunSummary; current: boolean }) {
  const at = run.started_at ? new Date(run.started_at) : null;
  return (
    <OneRun to={`/record/${run.id}`} aria-current={current ? "page" : undefined}>
      <strong>{run.name}</strong>
      <Text tone="quiet" size="note">
        {at && `${day(at)}, ${clock(at)}`}
        {run.ended_at && ` to ${clock(new Date(run.ended_at))}`}
        <br />
        {count(run.count, "server")}
        {run.failed ? `, ${run.failed} failed` : run.state === "running" ? ", running" : ", nothing failed"}
      </Text>
    </OneRun>
  );
}

function Shown({ id }: { id: number }) {
  const { data, error } = useQuery(recordQuery(id));
  if (error)
    return (
      <Block p={3}>
        <Notice>{error.message}</Notice>
      </Block>
    );
  if (!data) return null;
  return (
    <Split label="Record of a run">
      <Row gap={1.5} align="baseline" wrap>
        <Title>{data.name}</Title>
        <Tag tone={data.state === "running" ? "water" : data.failed ? "deep" : "done"}>{data.state}</Tag>
        <Text tone="quiet">
          drafted by {data.drafted_by}
          {data.approvals.map((a) => `, approved by ${a.by}`)}, started by {data.started_by}
        </Text>
        <Row className="no-print" ml="auto" gap={1}>
          <Button variant="outlined" component={Link} to={`/run-sheet/${id}`}>
            Its run sheet
          </Button>
          <Button variant="outlined" onClick={() => window.print()}>
            Print
          </Button>
        </Row>
      </Row>
      <Summary data={data} />
      <Files data={data} />
      <TakeBack data={data} />
      <Servers data={data} />
      <People data={data} />
    </Split>
  );
}

/** All that a run did, or one of its waves, taken back: a sheet like any other. */
function TakeBack({ data }: { data: RunRecord }) {
  const navigate = useNavigate();
  const back = useMutation({
    mutationFn: (wave: string) =>
      take(api.POST("/api/v1/runs/{id}/take-back", { params: { path: { id: data.id } }, body: { wave } })),
    onSuccess: (draft) => void navigate(`/run-sheet/${draft.id}`),
  });
  const going = data.servers.filter((s) => s.done.some((d) => d.back_to));
  if (data.state !== "ended" || !going.length) return null;
  const waves = [...new Set(going.map((s) => s.wave).filter(Boolean))];
  return (
    <Block className="no-print" mb={1.5}>
      <Row wrap gap={1} align="center">
        <Act takes="run" variant="outlined" loading={back.isPending} onClick={() => back.mutate("")}>
          Take all of it back
        </Act>
        {waves.map((wave) => (
          <Act
            key={wave}
            takes="run"
            variant="outlined"
            loading={back.isPending}
            onClick={() => back.mutate(wave)}
          >
            Take {wave} back
          </Act>
        ))}
        <Text as="span" size="note" tone="quiet">
          lays out a sheet, in the reverse order; nothing is touched until it is started
        </Text>
      </Row>
      {back.error && <Notice>{back.error.message}</Notice>}
    </Block>
  );
}
