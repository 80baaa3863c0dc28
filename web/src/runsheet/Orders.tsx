// Orders to a run under way: each says what it will mean before it is given.
import Button from "@mui/material/Button";
import Dialog from "@mui/material/Dialog";
import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useId, useState } from "react";

import { api, type Order, type Run, type RunServer, take } from "../api/client";
import { Act } from "../ui/Act";
import { ActionBar } from "../ui/ActionBar";
import { Block, Row, Stack, Text } from "../ui/layout";
import { Notice } from "../ui/Notice";
import { Title } from "../ui/text";
import { meaning as meaningQuery, type Scope } from "./queries";
import { nextTime } from "./WhatIf";

interface Asked {
  order: Order;
  /** What it is called, as on its button. */
  words: string;
}

const HOLD: Asked = { order: "hold", words: "Hold before the next step" };
const GO: Asked = { order: "go", words: "Go on" };
const STOP: Asked = { order: "stop", words: "Stop after the present steps" };
const OUT: Asked = { order: "leave out", words: "Leave out" };
const LATER: Asked = { order: "later", words: "Begin later" };

interface OrdersProps {
  run: Run;
  now: number;
  scope: Scope;
  orders: readonly Asked[];
}

/** Buttons for orders; a click tells what one will mean, and a second gives it. */
function OrderButtons({ run, now, scope, orders }: OrdersProps) {
  const [asked, ask] = useState<Asked | null>(null);
  return (
    <>
      {orders.map((one) => (
        <Act
          key={one.order}
          takes="run"
          variant="outlined"
          color={one.order === "stop" ? "error" : "primary"}
          onClick={() => ask(one)}
        >
          {one.words}
        </Act>
      ))}
      {asked && <WhatItMeans {...{ run, now, scope, asked }} close={() => ask(null)} />}
    </>
  );
}

/** The orders that a whole run can be given. */
export function RunOrders({ run, now }: { run: Run; now: number }) {
  return <OrderButtons {...{ run, now }} scope={{}} orders={[run.order === "hold" ? GO : HOLD, STOP]} />;
}

/** The orders for one server of a run under way: who has begun is stopped, who has not is left out or put later. */
export function ServerOrders({ run, now, lane }: { run: Run; now: number; lane: RunServer }) {
  const first = lane.hold
    ? { ...GO, words: `Let ${lane.server} go on` }
    : { ...HOLD, words: `Hold ${lane.server} before its next step` };
  const orders = lane.happened.length ? [first, STOP] : [first, OUT, LATER];
  return (
    <Row gap={1} wrap my={1}>
      <OrderButtons {...{ run, now, orders }} scope={{ server: lane.server }} />
    </Row>
  );
}

/** The orders for a wave or a group. */
export function PartOrders({ run, now }: { run: Run; now: number }) {
  const groups = [...new Set(run.servers.filter((s) => !s.ended && s.group).map((s) => s.group))].sort();
  const waves = run.waves.filter((wave) => wave.ended < wave.servers).map((wave) => wave.name);
  const [part, choose] = useState("");
  if (!groups.length && !waves.length) return null;
  const [kind, name] = [part.slice(0, part.indexOf(" ")), part.slice(part.indexOf(" ") + 1)];
  return (
    <Block as="section" aria-label="Orders for a part">
      <Title level={2}>A wave or a group</Title>
      <Stack gap={1} mt={0.75}>
        <TextField select size="small" label="Which" value={part} onChange={(e) => choose(e.target.value)}>
          {waves.map((wave) => (
            <MenuItem key={`wave ${wave}`} value={`wave ${wave}`}>
              {wave}
            </MenuItem>
          ))}
          {groups.map((group) => (
            <MenuItem key={`group ${group}`} value={`group ${group}`}>
              {group}
            </MenuItem>
          ))}
        </TextField>
        {part && (
          <Row gap={1} wrap>
            <OrderButtons
              key={part}
              {...{ run, now }}
              scope={kind === "wave" ? { wave: name } : { group: name }}
              orders={[HOLD, GO, OUT, LATER, STOP]}
            />
          </Row>
        )}
      </Stack>
    </Block>
  );
}

interface MeansProps extends Omit<OrdersProps, "orders"> {
  asked: Asked;
  close: () => void;
}

function WhatItMeans({ run, now, scope, asked, close }: MeansProps) {
  const title = useId();
  const [time, tell] = useState("");
  const moment = asked.order === "later" && time ? nextTime(new Date(now), time) : null;
  const order = { order: asked.order, ...scope, ...(moment ? { not_before: moment.toISOString() } : {}) };
  const isAsked = asked.order !== "later" || moment !== null;
  const { data, error } = useQuery({ ...meaningQuery(run.id, order), enabled: isAsked });
  const give = useMutation({
    mutationFn: () =>
      take(api.POST("/api/v1/runs/{id}/orders", { params: { path: { id: run.id } }, body: order })),
    onSuccess: close,
  });
  const refused = give.error ?? error;
  const changes = data ? data.servers.length > 0 || Object.keys(scope).length === 0 : false;
  return (
    <Dialog open onClose={close} aria-labelledby={title} maxWidth="sm" fullWidth>
      <Stack gap={1.5} p={3}>
        <Title level={2} id={title}>
          {asked.words}: what it will mean
        </Title>
        {asked.order === "later" && (
          <TextField
            size="small"
            type="time"
            label="Not before"
            value={time}
            onChange={(e) => tell(e.target.value)}
            slotProps={{ inputLabel: { shrink: true } }}
          />
        )}
        {isAsked && !data && !error && <Text tone="quiet">Looking how each stands…</Text>}
        {data && (
          <Stack as="ul" gap={0.75} m={0} pl={2.25} aria-live="polite">
            {data.lines.map((line) => (
              <Text as="li" key={line} size="body">
                {line}
              </Text>
            ))}
            {data.refused.map((line) => (
              <Text as="li" key={line} size="body" tone="deep">
                {line}
              </Text>
            ))}
            {!data.lines.length && !data.refused.length && (
              <Text as="li" size="body">
                It changes nothing now.
              </Text>
            )}
          </Stack>
        )}
        {refused && <Notice>{refused.message}</Notice>}
        <ActionBar>
          <Act
            takes="run"
            variant="contained"
            color={asked.order === "stop" ? "error" : "primary"}
            why={
              changes
                ? null
                : isAsked
                  ? "It would change nothing."
                  : "Say the time before which none of them begins."
            }
            loading={give.isPending}
            onClick={() => give.mutate()}
          >
            {asked.words}
          </Act>
          <Button variant="outlined" onClick={close}>
            Leave it as it is
          </Button>
        </ActionBar>
      </Stack>
    </Dialog>
  );
}
