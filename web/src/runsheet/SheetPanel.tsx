import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";

import { api, type Run, type RunServer, take } from "../api/client";
import { tape as tapeQuery } from "./queries";
import { clock, count, duration } from "../shell/format";
import { useParam } from "../shell/selection";
import { More } from "../ui/More";
import { Notice } from "../ui/Notice";
import { Sides } from "../ui/Sides";
import { Mono, Title } from "../ui/text";
import { Ahead } from "./Ahead";
import { Begins } from "./Begins";
import { ByDisc } from "./ByDisc";
import { Checks } from "./Checks";
import { Errand } from "./Errand";
import { Expected } from "./Expected";
import { Stale, WindowEnd } from "./Meanwhile";
import { PartOrders, ServerOrders } from "./Orders";
import { Override } from "./Override";
import { Paper } from "./Paper";
import { Question } from "./Question";
import { Reversals } from "./Reversals";
import { awayOf } from "./timescale";
import { Unattended } from "./Unattended";
import { Gate, Waves } from "./Waves";
import { WhatIf } from "./WhatIf";
import { Block, Row, Stack, Text } from "../ui/layout";
import { Section } from "../ui/Section";

interface Props {
  run: Run;
  now: number;
  picked: string | null;
  pick: (server: string | null) => void;
}

const DRAFT_SIDES = [
  ["outlook", "Outlook"],
  ["checks", "Checks"],
  ["waves", "Waves"],
  ["paper", "Document"],
] as const;
const RUN_SIDES = [
  ["outlook", "Course"],
  ["paper", "Document"],
] as const;

/** Beside the lanes: what needs a person, the server at hand, the tape. */
export function SheetPanel({ run, now, picked, pick }: Props) {
  const lane = run.servers.find((s) => s.server === picked);
  const failed = run.servers.filter((s) => s.ended === "failed");
  const isDraft = run.state === "draft";
  const stopping = isDraft ? run.servers.filter((s) => s.detail) : [];
  const sides = isDraft ? DRAFT_SIDES : RUN_SIDES;
  const [said, show] = useParam("side");
  const side = sides.find(([name]) => name === said)?.[0] ?? "outlook";
  const open = useMutation({
    mutationFn: (wave: string) =>
      take(api.POST("/api/v1/runs/{id}/waves/{wave}/open", { params: { path: { id: run.id, wave } } })),
  });
  if (!lane && side !== "outlook")
    return (
      <Stack gap={2} start>
        <Sides label="Beside the sheet" sides={sides} shown={side} show={show} />
        {side === "checks" && <Checks run={run} pick={pick} />}
        {side === "waves" && <Waves run={run} now={now} />}
        {side === "paper" && <Paper run={run} />}
      </Stack>
    );
  return (
    <Stack gap={2} start>
      {!lane && <Sides label="Beside the sheet" sides={sides} shown={side} show={show} />}
      {isDraft && run.stale.length > 0 && <Stale run={run} />}
      {!isDraft && <Gate run={run} open={open.mutate} isOpening={open.isPending} />}
      {open.error && <Notice>{open.error.message}</Notice>}
      {!lane && isDraft && <Expected run={run} />}
      {!lane && isDraft && <WhatIf run={run} now={now} />}
      {!lane && isDraft && !run.unattended && <Ahead run={run} />}
      {!lane && isDraft && <ByDisc run={run} />}
      {!lane && isDraft && !run.disc && <Unattended run={run} />}
      <Standing run={run} now={now} />
      {!lane && run.state === "running" && <WindowEnd run={run} />}
      {run.servers
        .filter((s) => s.question)
        .map((s) => (
          <Question key={s.server} run={run.id} lane={s} />
        ))}
      {run.servers
        .filter((s) => s.errand && (!lane || lane.server === s.server))
        .map((s) => (
          <Errand key={s.server} run={run.id} lane={s} />
        ))}
      {failed.map((s) => (
        <Notice key={s.server} title={`${s.server} needs a look`}>
          {s.reason}
          <Block mt={0.75}>
            <Button variant="outlined" onClick={() => pick(s.server)}>
              Show its tape
            </Button>
          </Block>
        </Notice>
      ))}
      {!lane && run.state === "running" && <Expected run={run} />}
      {!lane && run.state === "running" && <PartOrders run={run} now={now} />}
      {!lane &&
        stopping.map((s) => (
          <Notice
            key={s.server}
            title={s.plan.length ? `${s.server} is expected to be stopped` : `${s.server} has no place`}
          >
            {s.detail}
            <Block mt={0.75}>
              <Button variant="outlined" onClick={() => pick(s.server)}>
                Show its plan
              </Button>
            </Block>
          </Notice>
        ))}
      {lane && <Plan run={run} lane={lane} now={now} close={() => pick(null)} />}
      {run.state !== "draft" && <Tape key={picked} id={run.id} server={picked} />}
      {run.state === "draft" && !lane && (
        <Text tone="quiet" size="body">
          Pick a lane to see its rounds: what is written, and which reset makes it active.
        </Text>
      )}
    </Stack>
  );
}

function Standing({ run, now }: { run: Run; now: number }) {
  if (run.state === "draft") {
    return (
      <Box>
        <Title level={2}>Before it starts</Title>
        <Text as="ul" m={0} mt={0.75} pl={2.25} size="body">
          <li>
            Each server is read again first; one that is level is skipped, one that changed is planned anew.
          </li>
          <li>Never more servers at once than the site allows, nor more of a group than may be away.</li>
          <li>Each payload is identified against its component before it is sent.</li>
          <li>
            {run.missing.length
              ? `${count(run.missing.length, "payload")} still to be packed.`
              : "Every payload is packed."}
          </li>
        </Text>
      </Box>
    );
  }
  const waits = run.servers.filter((lane) => lane.ended === "waits for a reboot").length;
  const gone = run.started_at
    ? ((run.ended_at ? Date.parse(run.ended_at) : now) - Date.parse(run.started_at)) / 1000
    : 0;
  return (
    <Box role="status">
      <Title level={2}>
        {run.state === "running" ? "Running" : "Ended"}, {run.finished} of {run.count} servers done
      </Title>
      <Text tone="quiet" size="body">
        {duration(gone)} so far{run.state === "running" ? `, planned ${duration(run.planned_seconds)}` : ""}.{" "}
        {run.failed ? `${count(run.failed, "server")} failed.` : "Nothing failed."}
        {waits > 0 && ` ${count(waits, "server")} waiting for a reboot, whenever that comes.`}
        {run.asking > 0 && ` ${count(run.asking, "server")} waiting for a person.`}
      </Text>
    </Box>
  );
}

function Plan({ run, lane, now, close }: { run: Run; lane: RunServer; now: number; close: () => void }) {
  return (
    <Box component="section">
      <Row between>
        <Title level={2}>{lane.server}</Title>
        <Button onClick={close}>All servers</Button>
      </Row>
      <Text tone="quiet" size="small">
        {[lane.group && `in ${lane.group}`, lane.wave && `goes with ${lane.wave}`].filter(Boolean).join(", ")}
      </Text>
      {run.state === "draft" && awayOf(lane) > 0 && (
        <Text size="small">Out of service {duration(awayOf(lane))}.</Text>
      )}
      {run.state === "draft" && <Begins key={lane.server + run.sheet} {...{ run, lane, now, close }} />}
      {run.state === "draft" &&
        lane.waits.map((wait) => (
          <Text key={wait.start} size="small">
            Waits {duration(wait.end - wait.start)} {wait.why}.
          </Text>
        ))}
      {run.state === "running" && !lane.ended && <ServerOrders run={run} now={now} lane={lane} />}
      {run.state === "draft" ? (
        <Override run={run.id} lane={lane} />
      ) : (
        lane.overrides.map((o) => (
          <Text key={o.check} size="small">
            The {o.check} check was overridden: {o.reason}
          </Text>
        ))
      )}
      <Text as="ol" m={0} mt={0.5} pl={2.5} size="body">
        {lane.rounds.map((round, at) => (
          <li key={at}>
            {round.writes.some((w) => w.disc === "kit") && (
              <Text tone="quiet" size="note">
                by the field kit on the disc, over as many resets as it takes:
              </Text>
            )}
            {round.writes.map((w) => (
              <Box key={`${w.slot} ${w.to}`}>
                <Mono>
                  {w.slot} {w.source} → {w.to}
                </Mono>
                {w.identity && w.identity !== "by its descriptors" && (
                  <Text size="note" tone={w.identity.startsWith("by ") ? "quiet" : "deep"}>
                    identity {w.identity}
                  </Text>
                )}
                {w.announces.length > 0 && (
                  <Text tone="quiet" size="note">
                    changes by its notes: {w.announces.join(", ")}; the check after expects that
                  </Text>
                )}
              </Box>
            ))}
            {round.reset ? `${round.writes.length ? "then " : ""}${round.reset}` : "no reset"}
          </li>
        ))}
      </Text>
      {run.state === "draft" && <Reversals key={lane.server} run={run.id} lane={lane} />}
      {lane.hands.map((h) => (
        <Text key={h.when + h.slot} size="small">
          <strong>By hand</strong> at {[lane.room, lane.rack].filter(Boolean).join(" ")}, {h.when} {h.slot}{" "}
          {h.to}: {h.what}
        </Text>
      ))}
      {lane.stranded.map((s) => (
        <Text key={s.slot} size="small">
          {s.slot} stays: {s.reason}
        </Text>
      ))}
    </Box>
  );
}

const STEP = 60;

/** What was intended and what came of it, newest first. */
function Tape({ id, server }: { id: number; server: string | null }) {
  const [limit, setLimit] = useState(STEP);
  const { data = { rows: [], total: 0 } } = useQuery(tapeQuery(id, server, limit));
  return (
    <Section title={<>Tape{server ? ` of ${server}` : ""}</>}>
      <Stack as="ol" plain m={0} mt={0.75} p={0} size="note" gap={0.4}>
        {data.rows.map((e) => (
          <Stack
            as="li"
            key={`${e.server} ${e.seq}`}
            style={{ gridTemplateColumns: "72px 1fr" }}
            tone={e.kind.includes("failed") ? "deep" : "plain"}
          >
            <Mono dim>{clock(new Date(e.at), true)}</Mono>
            <Block breaks>
              {!server && <strong>{e.server} </strong>}
              {e.text}
            </Block>
          </Stack>
        ))}
      </Stack>
      <More
        shown={data.rows.length}
        total={data.total}
        what="entries"
        more={() => setLimit(limit + 5 * STEP)}
      />
    </Section>
  );
}
